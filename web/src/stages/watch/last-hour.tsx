import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { type Place, pageOf } from "../../api/place";
import { useSites } from "../../api/queries";
import { type Subject, useCarried, useSeries } from "../../api/series";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { Bands } from "./bands";
import { Measured } from "./measured";

/** How often what is measured is asked for anew, in seconds: as often as gateways measure. */
const STEP = 10;

/** The most events that are listed. */
const FEW = 5;

const step = () => Math.ceil(Date.now() / 1000 / STEP) * STEP;

/** The present, in steps. */
export function useMeasuredNow(): number {
  const [now, setNow] = useState(step);
  useEffect(() => {
    const timer = setInterval(() => setNow(step()), STEP * 1000);
    return () => clearInterval(timer);
  }, []);
  return now;
}

/**
 * LastHour is how a tunnel's end, a link or a pair did in the last hour, with the last of the events of
 * that time where they are asked for. A closer look is Over time.
 */
export function LastHour({ at, subject, events }: { at: Place; subject: Subject; events: boolean }) {
  const now = useMeasuredNow();
  const span = { from: now - 3600, to: now };
  const go = useNavigate();
  const zoom = (from: number, to: number) =>
    go(
      `${pageOf(at)}/watch/-/time?${new URLSearchParams({ ...subject, from: String(from), to: String(to) })}`,
    );
  const series = useSeries(at.estate, subject, span);
  const carried = useCarried(at.estate, subject, span);
  const names = new Map((useSites(at).data ?? []).map((s) => [s.key, s.name || s.key]));
  const asked = "other" in subject ? carried : series;
  return (
    <>
      <Trouble error={asked.error} />
      {asked.isPending && !asked.error ? <Waiting what="what was measured" /> : null}
      {"other" in subject && carried.data ? (
        <Bands
          carried={carried.data}
          span={span}
          names={names}
          other={subject.other}
          onZoom={zoom}
          most={events ? FEW : 0}
        />
      ) : null}
      {series.data ? (
        <Measured
          series={series.data}
          kind={"link" in subject ? "link" : "tunnel"}
          span={span}
          onZoom={zoom}
          page={pageOf(at)}
          most={events ? FEW : 0}
        />
      ) : null}
    </>
  );
}
