import { Link } from "react-router";
import type { SitePlan, SiteTunnel } from "../../api/client";
import { type Place, pageOf } from "../../api/place";
import { lookAt } from "../../parts/look";
import { many } from "../../parts/number";
import { shareText } from "../../parts/share";

/** Tunnels lists a site's tunnels by peer, first choice on top, with the peer's view of each. */
export function Tunnels({ plan, at }: { plan: SitePlan; at: Place }) {
  const peers = Map.groupBy(plan.tunnels, (t) => `${t.overlay} ${t.peer}`);
  return (
    <>
      {plan.apart.map((a) => (
        <div
          key={`${a.overlay} ${a.peer}`}
          className="border-l-4 border-warning bg-warning/10 px-3 py-2 my-2"
        >
          <p>
            <strong className="text-warning">▲ No tunnel to {a.peer}</strong> in {a.overlay}:{" "}
            {a.via.length > 0
              ? `${a.via.join(" and ")} ${a.via.length > 1 ? "carry" : "carries"} the traffic instead.`
              : "the two cannot reach each other."}
          </p>
          <ul className="text-xs font-mono text-secondary">
            {a.reasons.map((r) => (
              <li key={r}>{r}</li>
            ))}
          </ul>
        </div>
      ))}
      {plan.tunnels.length === 0 ? (
        <p className="py-4 text-secondary">
          This site has no tunnels.{" "}
          <Link className="link link-primary" to={`${pageOf(at)}/shape`}>
            Add it to an overlay in Shape
          </Link>
          .
        </p>
      ) : null}
      {[...peers].map(([id, tunnels]) => (
        <PeerTunnels key={id} tunnels={tunnels} at={at} />
      ))}
    </>
  );
}

const opening = { this: "this end", peer: "the peer", both: "either end", nobody: "▲ nobody can" };

function PeerTunnels({ tunnels, at }: { tunnels: SiteTunnel[]; at: Place }) {
  const first = tunnels[0] as SiteTunnel;
  return (
    <section className="mt-3">
      <h2>
        to{" "}
        <Link className="link link-hover" to={`${pageOf(at)}/paths/${first.peer}`}>
          {first.peer}
        </Link>{" "}
        <span className="font-sans font-normal text-xs text-secondary">
          {first.overlay},{" "}
          {first.kind === "to-hub"
            ? `hub and spoke, choice ${first.position}`
            : first.kind === "direct"
              ? "direct pair"
              : "hub to hub"}
          , cost {first.cost}
        </span>
      </h2>
      <table className="ruled table-fixed min-w-[1020px]">
        <thead>
          <tr>
            <th className="num w-11">Rank</th>
            <th className="w-40">Interface</th>
            <th className="w-18">From link</th>
            <th className="w-18">To link</th>
            <th className="w-60">Addresses, here and there</th>
            <th className="num w-28">Ports</th>
            <th className="num w-12">MTU</th>
            <th className="w-22">Initiator</th>
            <th>Endpoint called</th>
          </tr>
        </thead>
        <tbody>
          {tunnels.map((t) => (
            <tr
              key={t.interface}
              data-look={lookAt({ kind: "tunnel", overlay: t.overlay, tunnel: t.tunnel })}
            >
              <td className="num">{t.rank}</td>
              <td className="font-mono whitespace-nowrap">
                <Thread rank={t.share?.lead ?? t.rank} />{" "}
                <Link
                  className="link link-hover"
                  to={`${pageOf(at)}/paths/-/tunnel?${new URLSearchParams({ overlay: t.overlay, tunnel: t.tunnel })}`}
                  title="Both ends of this tunnel"
                >
                  {t.interface}
                </Link>
                {t.share ? (
                  <span className="block font-sans text-xs text-secondary pl-7">{shareText(t.share)}</span>
                ) : null}
              </td>
              <td>{t.link}</td>
              <td>{t.peer_link}</td>
              <td className="font-mono text-xs">
                {t.addresses.length === 0
                  ? "none"
                  : t.addresses.map((a, i) => <div key={a}>{`${a} ↔ ${t.peer_addresses[i] ?? ""}`}</div>)}
              </td>
              <td className="num font-mono text-xs">
                {t.port} ↔ {t.peer_port}
              </td>
              <td className="num">{t.mtu}</td>
              <td>{opening[t.opens as keyof typeof opening]}</td>
              <td className="font-mono text-xs wrap-anywhere">
                {t.endpoint || "responder"}
                {t.keepalive ? (
                  <span className="text-secondary whitespace-nowrap"> every {t.keepalive} s</span>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <details className="text-[13px] mt-1">
        <summary className="cursor-pointer text-secondary">
          Allowed from {first.peer}: {many(first.allowed.length, "prefix", "prefixes")} · peer's key{" "}
          <span className="font-mono text-xs">{first.peer_key}</span>
        </summary>
        {tunnels.map((t) => (
          <p key={t.interface} className="font-mono text-xs py-1">
            {t.interface}: {t.allowed.join(" ")}
          </p>
        ))}
      </details>
    </section>
  );
}

/** A thread: the first choice is drawn thick, those that stand by ever thinner. */
function Thread({ rank }: { rank: number }) {
  const width = Math.max(1, 4 - rank);
  return (
    <svg width="22" height="8" aria-hidden="true" className="inline-block text-primary">
      <path
        d="M0 4c6-5 10 5 22 0"
        fill="none"
        stroke="currentColor"
        strokeWidth={width}
        strokeDasharray={rank === 1 ? undefined : "5 2"}
      />
    </svg>
  );
}
