import type { Tally } from "../api/client";
import { count } from "./number";

/** Consequences puts a tally into one line. */
export function Consequences({ tally: t }: { tally: Tally }) {
  const findings = (list: Record<string, number>) => Object.values(list).reduce((a, b) => a + b, 0);
  const fresh = findings(t.findings_new);
  const gone = findings(t.findings_gone);
  const parts = [
    t.tunnels_added || t.tunnels_removed
      ? `+${count(t.tunnels_added)} −${count(t.tunnels_removed)} tunnels`
      : "",
    t.tunnels_changed
      ? `${t.tunnels_changed} ${t.tunnels_changed === 1 ? "tunnel changes" : "tunnels change"}`
      : "",
    t.routes_moved
      ? `${count(t.routes_moved)} ${t.routes_moved === 1 ? "route moves" : "routes move"} at ${count(t.moved_at)} ${t.moved_at === 1 ? "site" : "sites"}`
      : "no route moves",
    fresh ? `${fresh} new ${fresh === 1 ? "finding" : "findings"}` : "",
    gone ? `${gone} gone` : "",
  ].filter(Boolean);
  return (
    <>
      {parts.join(" · ")} ·{" "}
      {t.cut_pairs === 0 ? (
        <span>nobody cut off</span>
      ) : (
        <strong className="text-error">
          ■ {count(t.cut_pairs)} {t.cut_pairs === 1 ? "pair" : "pairs"} cut
          {t.cut_off_count > 0
            ? `, ${t.cut_off.slice(0, 2).join(", ")}${t.cut_off_count > 2 ? ` and ${t.cut_off_count - 2} more` : ""} cut off`
            : ""}
        </strong>
      )}
    </>
  );
}
