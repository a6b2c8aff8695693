import { useState } from "react";
import { Link } from "react-router";
import type { TunnelNow } from "../../api/client";
import { type Ends, endsShown, useGateway } from "../../api/gateways";
import { type Place, pageOf } from "../../api/place";
import { useLate } from "../../parts/late";
import { many } from "../../parts/number";
import { agoText, lossText, msText } from "./figures";

/** TunnelEnds lists ends of tunnels that a gateway has, those that are dead first. */
export function TunnelEnds({ at, site, of = {} }: { at: Place; site: string; of?: Ends }) {
  const [query, setQuery] = useState("");
  const words = useLate(query.trim(), 120);
  const g = useGateway(at.estate, site, true, words ? endsShown({ ...of, words }) : endsShown(of)).data;
  if (!g && !query) {
    return null;
  }
  const list = g?.tunnel_ends ?? [];
  const all = g?.matching ?? 0;
  if (all === 0 && !query) {
    return <p className="text-secondary mb-4">It has no tunnels.</p>;
  }
  return (
    <section className="mb-5">
      <div className="flex items-end gap-3">
        <h2 className="text-lg">Tunnels</h2>
        {all > 12 || query ? (
          <input
            className="cell w-52"
            aria-label="Filter the tunnels"
            placeholder="Filter: site, overlay, link"
            maxLength={100}
            value={query}
            onChange={(e) => setQuery(e.target.value)}
          />
        ) : null}
      </div>
      <table className="ruled" data-testid="tunnel-ends">
        <thead>
          <tr>
            <th>To</th>
            <th>Overlay</th>
            <th>By link</th>
            <th>State</th>
            <th className="text-right">Handshake</th>
            <th className="text-right">Latency</th>
            <th className="text-right">Jitter</th>
            <th className="text-right">Loss out, back</th>
            <th className="text-right">Path MTU</th>
            <th>Far end heard from</th>
          </tr>
        </thead>
        <tbody>
          {list.map((t) => (
            <tr key={t.interface}>
              <td className="whitespace-nowrap">
                {t.tunnel ? (
                  <Link
                    className="link"
                    to={`${pageOf(at)}/watch/-/tunnel?overlay=${t.overlay}&tunnel=${encodeURIComponent(t.tunnel)}`}
                  >
                    {t.peer}/{t.peer_link}
                  </Link>
                ) : (
                  t.interface
                )}
              </td>
              <td>{t.overlay ?? ""}</td>
              <td>{t.link ?? ""}</td>
              <td className="whitespace-nowrap">
                <StateOf t={t} />
              </td>
              <td className="text-right tabular-nums whitespace-nowrap">{agoText(t.handshake_s)}</td>
              <td className="text-right tabular-nums whitespace-nowrap">
                <Link
                  className="link"
                  title="Over time"
                  to={`${pageOf(at)}/watch/-/time?site=${site}&interface=${t.interface}`}
                >
                  {msText(t, t.latency_us)}
                </Link>
              </td>
              <td className="text-right tabular-nums whitespace-nowrap">{msText(t, t.jitter_us)}</td>
              <td className="text-right tabular-nums whitespace-nowrap">
                {lossText(t, t.loss_out_ppm)}, {lossText(t, t.loss_back_ppm)}
              </td>
              <td className="text-right tabular-nums">{t.path_mtu || "–"}</td>
              <td className="font-mono text-[13px]">{t.endpoint || "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {g && all === 0 ? (
        <p className="text-secondary text-[13px] mt-1">No tunnel has all of these words.</p>
      ) : null}
      {all > list.length ? (
        <p className="text-secondary text-[13px]">
          {many(all - list.length, "more tunnel")}: filter to see them.
        </p>
      ) : null}
    </section>
  );
}

/** StateOf says how an end of a tunnel is, by shape and word. */
export function StateOf({ t }: { t: TunnelNow }) {
  if (!t.up && t.steady_in > 0) {
    return <span className="text-warning">▲ flapped: back in {t.steady_in} s</span>;
  }
  if (!t.up) {
    return <strong className="text-error">■ dead</strong>;
  }
  if (t.beyond) {
    return <span className="text-warning">▲ beyond its limits</span>;
  }
  if (!t.probed) {
    return <span className="text-secondary">not probed</span>;
  }
  return t.carries ? <>✓ carries</> : <span className="text-secondary">○ stands by</span>;
}
