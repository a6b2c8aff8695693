import type { Link } from "../api/client";

const words: Record<string, string> = {
  static: "static: anyone can call it at a fixed address",
  dynamic: "dynamic: can be called by host name",
  forwarded: "forwarded: behind NAT, with UDP ports forwarded",
  nat: "nat: can only call out",
};

/** EndMark draws how a link can be reached: a wall, a hook, a gate, or nothing to hold on to. */
function EndMark({ reach }: { reach: string }) {
  const path = {
    static: "M2 1v10M2 6h12",
    dynamic: "M14 6H7a3 3 0 1 1 1-5",
    forwarded: "M5 1v3M5 8v3M14 6H0",
    nat: "M14 6h-3M9 6H7M4 6H3",
  }[reach];
  return (
    <svg width="14" height="12" viewBox="0 0 14 12" aria-hidden="true" className="shrink-0">
      <path d={path ?? "M14 6h-3"} fill="none" stroke="currentColor" strokeWidth="2" />
    </svg>
  );
}

export function ReachLegend() {
  return (
    <span className="font-normal flex gap-2">
      {Object.entries(words).map(([reach, meaning]) => (
        <span key={reach} title={meaning} className="flex items-center gap-0.5">
          <EndMark reach={reach} />
          {reach}
        </span>
      ))}
    </span>
  );
}

/** Bandwidth as length, logarithmic: 1 Mbit/s is short, 1 Gbit/s long. */
const length = (mbps: number) => Math.round(8 + 22 * Math.log10(Math.max(1, mbps)));

/** LinkBars shows WAN links as bars: length is bandwidth, the left end says who can call. */
export function LinkBars({ links }: { links: Link[] }) {
  const sorted = [...links].sort((a, b) => (a.rank ?? 1) - (b.rank ?? 1));
  if (links.length === 0) {
    return <span className="text-secondary text-xs">no WAN link</span>;
  }
  return (
    <ul className="text-xs leading-5 min-w-0">
      {sorted.map((l) => (
        <li
          key={l.key}
          className="flex items-center gap-1 min-w-0"
          title={`${l.key}: ${words[l.reach] ?? l.reach}; ${l.down_mbps ?? "?"} Mbit/s down, ${l.up_mbps ?? "?"} up, MTU ${l.mtu ?? 1500}${l.metered ? ", metered" : ""}`}
        >
          <EndMark reach={l.reach} />
          <span
            className={`h-1.5 shrink-0 ${l.metered ? "border border-current border-l-0" : "bg-current"} ${l.no_tunnels ? "opacity-40" : ""}`}
            style={{ width: length(l.down_mbps ?? 0) }}
          />
          <span className="truncate">
            {l.key} <span className="text-secondary">{l.provider}</span>
            {l.weight ? (
              <span className="text-secondary" title="its part of the shared load">
                {" "}
                × {l.weight}
              </span>
            ) : null}
          </span>
          <span className="sr-only">{l.reach}</span>
          <span className="ml-auto text-secondary whitespace-nowrap">
            {l.down_mbps ? `${l.down_mbps} Mbit/s` : ""}
          </span>
        </li>
      ))}
    </ul>
  );
}
