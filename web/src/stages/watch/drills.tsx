import { useState } from "react";
import { Link } from "react-router";
import { type Drill, Problem } from "../../api/client";
import { drillFile, useDrill, useDrills, useForesight, useStartDrill, useStopDrill } from "../../api/drills";
import { useWindows } from "../../api/events";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useEstate } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { partText } from "../../parts/failing";
import { Field, MomentField } from "../../parts/field";
import { many } from "../../parts/number";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";
import { Course } from "./drill-course";
import { states } from "./drill-states";

const lengths: [seconds: number, words: string][] = [
  [30, "30 seconds"],
  [120, "2 minutes"],
  [600, "10 minutes"],
  [1800, "30 minutes"],
];

/** By how many seconds what gateways report may be behind. */
const late = 4;

const repeats = { "": "once", week: "each week", month: "each month", quarter: "each quarter" } as const;

/**
 * Drills rehearse failures. The engineer wants to know whether what Outages says is so, before it
 * happens by itself; they compare, second by second, what was predicted with what is seen.
 */
export default function Drills() {
  const at = usePlace();
  const [params, set] = useAddress();
  const part = params.get("fail") ?? "";
  const number = Number(params.get("drill")) || 0;
  const role = useEstate(at).data?.role;
  const operates = role === "operator" || role === "owner";
  const list = useDrills(at.estate);
  return (
    <div className="pb-10">
      <StageHead title="Drills">
        Is it so, what Outages says? Gateways hold a part's tunnels down for a time, or take them for slow or
        lossy, and what they do is set beside what was predicted.
      </StageHead>
      <div className="px-6 max-w-6xl">
        <Trouble error={list.error} />
        {number > 0 ? <Run at={at} number={number} operates={operates} /> : null}
        {number === 0 && part ? (
          <Plan
            at={at}
            part={part}
            operates={operates}
            onStarted={(n) => set({ drill: String(n), fail: "" })}
          />
        ) : null}
        {number === 0 && !part ? (
          <p className="mb-3">
            Choose a failure in{" "}
            <Link className="link" to={`${pageOf(at)}/outages`}>
              Outages
            </Link>{" "}
            and drill it, or look at one that was done.
          </p>
        ) : null}
        <Past at={at} list={(list.data ?? []).filter((d) => d.number !== number)} />
      </div>
    </div>
  );
}

/** Plan shows what a drill would do, and begins it. */
function Plan(props: { at: Place; part: string; operates: boolean; onStarted: (number: number) => void }) {
  const { at, part } = props;
  const foreseen = useForesight(at.estate, part);
  const start = useStartDrill(at.estate);
  const windows = useWindows(at.estate).data ?? [];
  const [chosen, setSeconds] = useState(0);
  const [begins, setBegins] = useState("");
  const [every, setEvery] = useState<keyof typeof repeats>("");
  const refused = start.error instanceof Problem ? start.error.fields : {};
  const p = foreseen.data;
  if (!p) {
    return (
      <>
        <Trouble error={foreseen.error} />
        {foreseen.isPending ? <Waiting what="what it would do" /> : null}
      </>
    );
  }
  const holders = p.sites.filter((s) => s.holds).map((s) => s.key);
  const open = holders.every((site) => windows.some((w) => w.open && (!w.site || w.site === site)));
  const enough = lengths.filter(([n]) => n >= Math.ceil(p.detect_s) + late);
  const seconds = chosen || (enough[0]?.[0] ?? 1800);
  return (
    <section className="mb-5" data-testid="drill-plan">
      <h2 className="text-lg">{partText(part)}</h2>
      <ul className="mb-2 list-disc pl-5">
        <li>
          {many(p.tunnels, "tunnel")} {p.tunnels === 1 ? "is" : "are"}{" "}
          {p.degree ? `taken for ${p.degree}` : "held down"} by the{" "}
          {holders.length === 1 ? "gateway" : "gateways"} of {holders.slice(0, 6).join(", ")}
          {holders.length > 6 ? ` and ${holders.length - 6} more` : ""};{" "}
          {many(p.sites.length, "gateway finds", "gateways find")} that.
        </li>
        {p.degree ? (
          <li>
            What is held to limits leaves them within {p.detect_s.toFixed(1)} s, where another tunnel to the
            same site keeps to its limits, and takes them again within {p.return_s.toFixed(1)} s after they
            are let go.
          </li>
        ) : (
          <li>
            All of it is found within {p.detect_s.toFixed(1)} s, and back within {p.return_s.toFixed(1)} s
            after it is let go.
          </li>
        )}
        <li>
          {many(p.moved + p.squeezed, "pair of sites goes", "pairs of sites go")} by other tunnels
          {p.squeezed > 0 ? `, ${p.squeezed} of them with too little` : ""};{" "}
          {p.cut > 0 ? (
            <strong className="text-error">■ {many(p.cut, "pair is", "pairs are")} cut while it lasts</strong>
          ) : (
            "nobody is cut"
          )}
          .
        </li>
        {p.degree ? (
          <li>
            Only the figures that are compared with limits are made worse, at both ends: no packet is late or
            lost, and all else stays. They come back by themselves, whatever becomes of this server.
          </li>
        ) : (
          <li>
            Tunnels are held down by their probes, so traffic goes on until both ends find them dead: what
            moves loses nothing. They come back by themselves, whatever becomes of this server.
          </li>
        )}
      </ul>
      {props.operates ? (
        <>
          {open ? (
            <p className="mb-2">✓ A window of maintenance is open.</p>
          ) : (
            <p className="mb-2">
              ○ It needs a window of maintenance of {holders.length === 1 ? holders[0] : "all sites"}, open
              when it begins:{" "}
              <Link className="link" to={`${pageOf(at)}/watch/-/events`}>
                announce one
              </Link>
              .
            </p>
          )}
          <form
            className="flex flex-wrap gap-3 items-start"
            onSubmit={(e) => {
              e.preventDefault();
              start.mutate(
                {
                  part,
                  seconds,
                  ...(begins ? { begins_at: new Date(begins).toISOString(), every } : {}),
                },
                { onSuccess: (d) => props.onStarted(d.number) },
              );
            }}
          >
            <Field label="Held for" error={refused.seconds}>
              {(aria) => (
                <select
                  {...aria}
                  className="cell w-36"
                  value={seconds}
                  onChange={(e) => setSeconds(Number(e.target.value))}
                >
                  {enough.map(([n, words]) => (
                    <option key={n} value={n}>
                      {words}
                    </option>
                  ))}
                </select>
              )}
            </Field>
            <MomentField
              label="Begins, your time; at once if empty"
              error={refused.begins_at}
              value={begins}
              onChange={setBegins}
            />
            {begins ? (
              <Field label="Comes again">
                {(aria) => (
                  <select
                    {...aria}
                    className="cell w-36"
                    value={every}
                    onChange={(e) => setEvery(e.target.value as typeof every)}
                  >
                    {Object.entries(repeats).map(([value, words]) => (
                      <option key={value} value={value}>
                        {words}
                      </option>
                    ))}
                  </select>
                )}
              </Field>
            ) : null}
            <button
              type="submit"
              className="btn btn-sm btn-primary mt-4"
              disabled={start.isPending || (!open && !begins)}
            >
              {begins ? "Plan the drill" : "Begin the drill"}
            </button>
          </form>
          <Trouble error={start.error} />
        </>
      ) : (
        <p className="text-secondary">An operator can drill it.</p>
      )}
    </section>
  );
}

const found = (p: Drill["prediction"]) => (p.degree ? "beyond their limits" : "dead");

/** Run shows one drill, while it goes on and after. */
function Run({ at, number, operates }: { at: Place; number: number; operates: boolean }) {
  const drill = useDrill(at.estate, number);
  const stop = useStopDrill(at.estate);
  const d = drill.data;
  if (!d) {
    return (
      <>
        <Trouble error={drill.error} />
        {drill.isPending ? <Waiting what="the drill" /> : null}
      </>
    );
  }
  const bad = d.state === "differs" || d.state === "failed";
  const seen = (seconds?: number) => (seconds === undefined ? "–" : `${seconds} s`);
  return (
    <section className="mb-6" data-testid="drill">
      <h2 className="text-lg flex items-end gap-3">
        <span>
          Drill {d.number}: {partText(d.part)}
        </span>
        <span className="ml-auto flex gap-2 font-sans">
          {operates && !d.ended_at && d.state !== "returning" ? (
            <button type="button" className="btn btn-xs" onClick={() => stop.mutate(number)}>
              {d.state === "waiting" ? "Take back" : "Let go now"}
            </button>
          ) : null}
          {d.ended_at ? (
            <>
              <a className="btn btn-xs" href={drillFile(at.estate, number, "report.html")} download>
                Report
              </a>
              <a className="btn btn-xs" href={drillFile(at.estate, number, "points.csv")} download>
                Sheet (CSV)
              </a>
            </>
          ) : null}
        </span>
      </h2>
      <p role="status" className={`text-base font-semibold ${bad ? "text-error" : ""}`}>
        {states[d.state]}
        {d.words ? <span className="font-normal text-base-content">: {d.words}</span> : null}
      </p>
      <Trouble error={stop.error} />
      <p className="text-secondary text-[13px] mb-2">
        <When at={d.began_at ?? d.begins_at} />, for {d.seconds} s, by {d.author}, release {d.release}
      </p>
      <table className="ruled max-w-2xl mb-3">
        <thead>
          <tr>
            <th />
            <th className="text-right">Predicted</th>
            <th className="text-right">Seen</th>
          </tr>
        </thead>
        <tbody>
          <tr>
            <td>All found {found(d.prediction)}, and ways moved</td>
            <td className="text-right">{d.prediction.detect_s.toFixed(1)} s</td>
            <td className="text-right">{seen(d.found_after_s)}</td>
          </tr>
          <tr>
            <td>All back after it was let go</td>
            <td className="text-right">{d.prediction.return_s.toFixed(1)} s</td>
            <td className="text-right">{seen(d.back_after_s)}</td>
          </tr>
        </tbody>
      </table>
      {d.points.length > 0 ? <Course d={d} /> : null}
    </section>
  );
}

/** Past lists drills: what was proven last, and when. */
function Past({ at, list }: { at: Place; list: Drill[] }) {
  if (list.length === 0) {
    return null;
  }
  return (
    <section>
      <h2 className="text-lg">So far</h2>
      <table className="ruled" data-testid="drills">
        <thead>
          <tr>
            <th>What</th>
            <th>When</th>
            <th>How it was</th>
            <th className="text-right">Found after</th>
            <th className="text-right">Back after</th>
            <th>By</th>
          </tr>
        </thead>
        <tbody>
          {list.map((d) => (
            <tr key={d.number}>
              <td>
                <Link className="link" to={`${pageOf(at)}/watch/-/drills?drill=${d.number}`}>
                  {partText(d.part)}
                </Link>
              </td>
              <td>
                <When at={d.began_at ?? d.begins_at} />
                {d.every ? <span className="text-secondary">, {repeats[d.every]}</span> : null}
              </td>
              <td className={d.state === "differs" || d.state === "failed" ? "text-error" : ""}>
                {states[d.state]}
              </td>
              <td className="text-right">{d.found_after_s === undefined ? "" : `${d.found_after_s} s`}</td>
              <td className="text-right">{d.back_after_s === undefined ? "" : `${d.back_after_s} s`}</td>
              <td>{d.author}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
