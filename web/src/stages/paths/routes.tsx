import { useState } from "react";
import { Link } from "react-router";
import type { SitePlan, SiteRoute } from "../../api/client";
import { type Place, pageOf } from "../../api/place";

type Chain = SitePlan["chains"][number];

/** Routes lists a site's routes with the chain that stands by and why each comes where it does. */
export function Routes({ plan, at }: { plan: SitePlan; at: Place }) {
  const [query, setQuery] = useState("");
  const rows = plan.routes.filter((r) =>
    `${r.prefix} ${r.to} ${r.overlay}`.includes(query.trim().toLowerCase()),
  );
  return (
    <>
      <p className="flex gap-4 items-center py-1">
        <input
          className="cell w-60"
          aria-label="Filter the routes"
          placeholder="Filter: prefix or site"
          value={query}
          onChange={(e) => setQuery(e.target.value)}
        />
        <span className="text-secondary text-[13px]">
          The lowest metric carries the traffic, several of one metric share it;{" "}
          {plan.switches
            ? "when its tunnel is dead the next one does."
            : "there is no automatic failover at this gateway, so a dead tunnel stays in use until somebody intervenes."}{" "}
          Every overlay prefix ends in a discard route, so that it never leaves by the internet.
        </span>
      </p>
      <table className="ruled">
        <thead>
          <tr>
            <th>Prefix</th>
            <th>To</th>
            <th>Carried by</th>
            <th className="num">Metric</th>
            <th className="num">Path cost</th>
            <th>Standing by, in order</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <RouteRow
              key={`${r.prefix} ${r.kind} ${r.overlay}`}
              route={r}
              hops={plan.chains[r.chain] ?? []}
              at={at}
              here={plan.site}
            />
          ))}
        </tbody>
      </table>
      {rows.length === 0 ? <p className="py-3 text-secondary">No route matches.</p> : null}
    </>
  );
}

/** How many hops at the front carry the traffic together. */
function sharing(hops: Chain): number {
  const n = hops.findIndex((h) => h.metric !== hops[0]?.metric);
  return n < 0 ? hops.length : n;
}

function RouteRow(props: { route: SiteRoute; hops: Chain; at: Place; here: string }) {
  const { route: r, hops, at, here } = props;
  const first = hops[0];
  return (
    <tr>
      <td className="font-mono whitespace-nowrap">
        {r.prefix}
        {r.from ? <span className="block text-xs text-secondary">from {r.from.join(", ")}</span> : null}
      </td>
      <td>
        {r.to === here ? (
          "here"
        ) : (
          <Link className="link link-hover" to={`${pageOf(at)}/paths/${r.to}?view=routes`}>
            {r.to}
          </Link>
        )}
      </td>
      {first ? (
        <>
          <td className="whitespace-nowrap">
            {hops.slice(0, sharing(hops)).map((h) => (
              <span key={h.interface} className="font-mono">
                {h === first ? "" : " + "}
                {h.interface}
                {h.weight ? <span className="text-secondary"> × {h.weight}</span> : null}
              </span>
            ))}
            {first.via !== r.to ? <span className="text-secondary"> via {first.via}</span> : null}
          </td>
          <td className="num">{first.metric}</td>
          <td className="num">{first.cost}</td>
          <td>
            <Standby hops={hops} />
          </td>
        </>
      ) : (
        <td colSpan={4} className={r.kind === "cut" ? "text-error" : "text-secondary"}>
          {r.kind === "cut"
            ? `■ no path to ${r.to}: discarded`
            : r.link
              ? `outside the tunnels, by ${r.link} to ${r.next_hop}`
              : "connected"}
        </td>
      )}
    </tr>
  );
}

/** Standby sums up the chain behind the first hop, neighbour by neighbour; opened, it names every hop. */
function Standby({ hops }: { hops: Chain }) {
  const behind = hops.slice(sharing(hops));
  if (behind.length === 0) {
    return <span className="text-secondary">nothing; then discard</span>;
  }
  const neighbours = Map.groupBy(behind, (h) => h.via);
  return (
    <details>
      <summary className="cursor-pointer">
        {[...neighbours].map(([via, list]) => `${list.length} by ${via}`).join(", ")}
        <span className="text-secondary">, then discard</span>
      </summary>
      <table className="text-xs my-1">
        <tbody>
          {behind.map((h) => (
            <tr key={h.interface}>
              <td className="num !border-0 !py-0">{h.metric}</td>
              <td className="font-mono !border-0 !py-0">{h.interface}</td>
              <td className="!border-0 !py-0 text-secondary">
                {h.why === "tunnel rank"
                  ? "the next tunnel to the same neighbour"
                  : h.why === "load sharing"
                    ? "shares the load with the one above"
                    : `behind by ${h.why}: ${h.cost}`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
