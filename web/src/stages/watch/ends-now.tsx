import type { BothEnds, TunnelNow } from "../../api/client";
import { useGateway, useGateways } from "../../api/gateways";
import type { Place } from "../../api/place";
import { agoText, lossText, msText } from "./figures";

/** EndsNow lays beside each other what the gateways at the two ends of a tunnel report. */
export function EndsNow({ at, sheet }: { at: Place; sheet: BothEnds }) {
  const joined = new Set((useGateways(at.estate).data?.gateways ?? []).map((g) => g.site));
  const a = useGateway(at.estate, sheet.a, joined.has(sheet.a)).data;
  const b = useGateway(at.estate, sheet.b, joined.has(sheet.b)).data;
  if (!joined.has(sheet.a) && !joined.has(sheet.b)) {
    return null;
  }
  const end = (list?: TunnelNow[]) =>
    list?.find((t) => t.overlay === sheet.overlay && t.tunnel === sheet.tunnel);
  const ends = [end(a?.tunnel_ends), end(b?.tunnel_ends)];
  const line = (what: string, value: (t: TunnelNow) => React.ReactNode) => (
    <tr>
      <td>{what}</td>
      <td className="font-mono text-[13px]">{ends[0] ? value(ends[0]) : "–"}</td>
      <td />
      <td className="font-mono text-[13px]">{ends[1] ? value(ends[1]) : "–"}</td>
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
          {line("state", (t) => (t.up ? (t.carries ? "✓ carries" : "○ stands by") : "■ dead"))}
          {line("handshake", (t) => agoText(t.handshake_s))}
          {line("far end heard from", (t) => t.endpoint || "never")}
          {line("bytes in, out", (t) => `${t.bytes_in.toLocaleString()}, ${t.bytes_out.toLocaleString()}`)}
          {line("latency, jitter", (t) => `${msText(t, t.latency_us)}, ${msText(t, t.jitter_us)}`)}
          {line("loss of what it sent", (t) => lossText(t, t.loss_out_ppm))}
          {line("path MTU", (t) => t.path_mtu || "–")}
        </tbody>
      </table>
      {[a, b].some((g) => g && !g.up) ? (
        <p className="text-secondary text-[13px]">An end that is away is shown as it was last heard.</p>
      ) : null}
    </section>
  );
}
