import type { BothEnds, TunnelNow } from "../../api/client";
import { useGateway, useGateways } from "../../api/gateways";
import type { Place } from "../../api/place";
import { agoText, lossText, msText } from "./figures";
import { StateOf } from "./tunnel-ends";

/** EndsNow lays beside each other what the gateways at the two ends of a tunnel report. */
export function EndsNow({ at, sheet }: { at: Place; sheet: BothEnds }) {
  const joined = new Set((useGateways(at.estate).data?.gateways ?? []).map((g) => g.site));
  const of = { overlay: sheet.overlay, tunnel: sheet.tunnel };
  const a = useGateway(at.estate, sheet.a, joined.has(sheet.a), of).data;
  const b = useGateway(at.estate, sheet.b, joined.has(sheet.b), of).data;
  if (!joined.has(sheet.a) && !joined.has(sheet.b)) {
    return null;
  }
  const end = (list?: TunnelNow[]) =>
    list?.find((t) => t.overlay === sheet.overlay && t.tunnel === sheet.tunnel);
  const ends = [end(a?.tunnel_ends), end(b?.tunnel_ends)];
  /** What the design says at an end, where that is a value that what is seen can be compared with. */
  const designed = (what: string, at: "a" | "b", compared: RegExp) => {
    const says = sheet.lines.find((l) => l.what === what)?.[at] ?? "";
    return compared.test(says) ? says : undefined;
  };
  const line = (what: string, value: (t: TunnelNow) => React.ReactNode, by?: [what: string, of: RegExp]) => (
    <tr>
      <td>{what}</td>
      {(["a", "b"] as const).flatMap((side, i) => {
        const t = ends[i];
        const shown = t ? value(t) : "–";
        const says = by && t ? designed(by[0], side, by[1]) : undefined;
        const differs = says !== undefined && shown !== "–" && shown !== "never" && `${shown}` !== says;
        return [
          ...(i === 1 ? [<td key="between" />] : []),
          <td key={side} className="font-mono text-[13px]">
            {shown}
            {differs ? <p className="text-warning font-sans text-xs">▲ designed: {says}</p> : null}
          </td>,
        ];
      })}
    </tr>
  );
  return (
    <section className="mb-5" data-testid="ends-now">
      <table className="ruled table-fixed">
        <thead>
          <tr>
            <th className="w-44">Now</th>
            <th>{sheet.a}</th>
            <th className="w-8">
              <span className="sr-only">nothing between</span>
            </th>
            <th>{sheet.b}</th>
          </tr>
        </thead>
        <tbody>
          {line("state", (t) => (
            <StateOf t={t} />
          ))}
          {line("handshake", (t) => agoText(t.handshake_s))}
          {line("far end heard from", (t) => t.endpoint || "never", [
            "endpoint",
            /^[\d.]+:\d+$|^\[[\da-f:]+\]:\d+$/,
          ])}
          {line("bytes in, out", (t) => `${t.bytes_in.toLocaleString()}, ${t.bytes_out.toLocaleString()}`)}
          {line("latency, jitter", (t) => `${msText(t, t.latency_us)}, ${msText(t, t.jitter_us)}`)}
          {line("loss of what it sent", (t) => lossText(t, t.loss_out_ppm))}
          {line("path MTU", (t) => t.path_mtu || "–", ["MTU in the tunnel", /^\d+$/])}
        </tbody>
      </table>
      {[a, b].some((g) => g && !g.up) ? (
        <p className="text-secondary text-[13px]">An end that is away is shown as it was last heard.</p>
      ) : null}
    </section>
  );
}
