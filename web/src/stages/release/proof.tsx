import { Link } from "react-router";
import type { RolloutDetail } from "../../api/client";
import { type Place, pageOf } from "../../api/place";
import { count } from "../../parts/number";
import { When } from "../../parts/when";
import { EchoesSeen } from "./echoes";

/** Proof sets what was expected after the last round beside what gateways said they saw. */
export function Proof({ at, run }: { at: Place; run: RolloutDetail }) {
  const p = run.proof;
  if (!p.at) {
    return <p className="py-2">Nothing is proven yet: the first round is not done.</p>;
  }
  return (
    <div className="max-w-4xl" data-testid="proof">
      <p className="mb-2">
        Compared <When at={p.at} />, by what the gateways reported once their probes had time to find out.
      </p>
      <table className="w-full mb-4">
        <thead>
          <tr className="border-b-[1.5px] border-base-content text-xs text-secondary text-left">
            <th className="font-semibold py-1">What</th>
            <th className="font-semibold text-right">Expected</th>
            <th className="font-semibold text-right">Seen</th>
            <th className="font-semibold text-right">Differ</th>
          </tr>
        </thead>
        <tbody>
          <Row what="ends of tunnels that are alive" expected={p.ends} seen={p.alive} />
          <Row what="ways that go by their first group that lives" expected={p.ways} seen={p.as_expected} />
        </tbody>
      </table>
      <p className="text-secondary mb-3">
        Not asked for: {count(p.dead_before)} ends that were dead before it began, and {count(p.unseen)}{" "}
        things of gateways that are away or have not joined.
      </p>
      {p.differ.length > 0 ? (
        <table className="w-full">
          <thead>
            <tr className="border-b-[1.5px] border-base-content text-xs text-secondary text-left">
              <th className="font-semibold py-1">Gateway of</th>
              <th className="font-semibold">What</th>
              <th className="font-semibold">Expected</th>
              <th className="font-semibold">Seen</th>
            </tr>
          </thead>
          <tbody>
            {p.differ.map((d) => (
              <tr key={d.site + d.what} className="border-b border-base-300">
                <td className="py-1">
                  <Link className="link font-mono text-[13px]" to={`${pageOf(at)}/watch/${d.site}`}>
                    {d.site}
                  </Link>
                </td>
                <td>{d.what}</td>
                <td>{d.expected}</td>
                <td className="text-error">■ {d.seen}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      {p.echoes && p.echoes.asked > 0 ? <EchoesSeen echoes={p.echoes} /> : null}
    </div>
  );
}

function Row({ what, expected, seen }: { what: string; expected: number; seen: number }) {
  return (
    <tr className="border-b border-base-300 tabular-nums">
      <td className="py-1">{what}</td>
      <td className="text-right">{count(expected)}</td>
      <td className="text-right">{count(seen)}</td>
      <td className={`text-right ${expected === seen ? "" : "text-error"}`}>
        {expected === seen ? "✓ none" : `■ ${count(expected - seen)}`}
      </td>
    </tr>
  );
}
