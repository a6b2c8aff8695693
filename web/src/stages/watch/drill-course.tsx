import type { DrillDetail } from "../../api/client";
import { Plot } from "../../parts/plot";

/** Course draws a drill second by second: what is as the part is, and which ways go as predicted. */
export function Course({ d }: { d: DrillDetail }) {
  const began = Date.parse(d.began_at ?? d.begins_at) / 1000;
  const at = d.points.map((p) => began + p.second);
  const last = d.points.at(-1);
  const to = Math.max(began + d.seconds + d.prediction.return_s + 5, at.at(-1) ?? began);
  const ends = d.prediction.sites.reduce((n, s) => n + s.ends.length, 0);
  const are = d.prediction.degree ? "beyond limits" : "dead";
  const lines = [
    { label: `ends ${are}`, values: d.points.map((p) => p.dead), color: "primary" as const },
    {
      label: "ways not as predicted",
      values: d.points.map((p) => p.all_ways - p.ways),
      color: "error" as const,
      dash: [6, 3],
    },
    {
      label: d.prediction.degree ? "other ends beyond limits or dead" : "other ends dead",
      values: d.points.map((p) => p.others),
      color: "warning" as const,
      dash: [2, 3],
    },
  ];
  return (
    <>
      <Plot
        name={`Ends ${are}`}
        unit="ends of tunnels"
        at={at}
        lines={lines}
        marks={[
          { at: began + d.prediction.detect_s, color: "primary" },
          ...(d.let_go_at ? [{ at: Date.parse(d.let_go_at) / 1000, color: "success" as const }] : []),
        ]}
        span={{ from: began, to }}
        least={ends}
        height={200}
        format={(v) => v.toFixed(0)}
        onZoom={() => {}}
        sync="drill"
      />
      <p className="text-secondary text-[13px] mb-2">
        {ends} ends are to be {are} from the first mark on, {d.prediction.detect_s.toFixed(1)} s after it
        began
        {d.let_go_at ? "; at the second it was let go" : ""}. Seen is what gateways reported, up to a second
        behind.
      </p>
      {last?.wrong && last.wrong.length > 0 && !d.ended_at ? (
        <details className="mb-3">
          <summary>Not as predicted at present: {last.wrong.length}</summary>
          <ul>
            {last.wrong.map((w) => (
              <li key={w}>{w}</li>
            ))}
          </ul>
        </details>
      ) : null}
    </>
  );
}
