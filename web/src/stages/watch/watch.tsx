import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef } from "react";
import { Link } from "react-router";
import type { GatewayRow } from "../../api/client";
import { clockText, standOf, useGateways } from "../../api/gateways";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useEstate, useSites } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { many } from "../../parts/number";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";
import { Now } from "./now";
import { Stands } from "./stands";

/** A row is a site with its gateway, or one whose gateway has not joined. */
interface Row {
  site: string;
  name: string;
  gateway?: GatewayRow;
  code?: string;
}

const columns =
  "grid grid-cols-[minmax(160px,1.4fr)_minmax(200px,1.8fr)_minmax(90px,0.7fr)_90px_minmax(150px,1fr)_84px] gap-x-5 items-baseline";

/** Watch lists the gateways, worst first: who is there, what they run, what is dead. */
export default function Watch() {
  const at = usePlace();
  const head = useEstate(at).data;
  const list = useGateways(at.estate, !head?.fixed);
  const sites = useSites(at);
  const [params, set] = useAddress();
  const query = params.get("q") ?? "";
  const rows = useRows(list.data, sites.data, query);
  const joined = list.data?.gateways ?? [];
  const there = joined.filter((g) => g.up).length;
  return (
    <div className="h-full flex flex-col">
      <StageHead
        title="Watch"
        actions={
          <>
            <input
              className="cell w-52"
              aria-label="Filter the gateways"
              placeholder="Filter: site, state"
              value={query}
              onChange={(e) => set({ q: e.target.value })}
            />
            {joined.length > 0 ? (
              <>
                <Link className="btn btn-sm" to={`${pageOf(at)}/watch/-/loom`}>
                  Loom
                </Link>
                <Link className="btn btn-sm" to={`${pageOf(at)}/watch/-/events`}>
                  Events
                </Link>
                <Link className="btn btn-sm" to={`${pageOf(at)}/watch/-/drills`}>
                  Drills
                </Link>
                <Link className="btn btn-sm" to={`${pageOf(at)}/watch/-/time`}>
                  Over time
                </Link>
                <Link className="btn btn-sm" to={`${pageOf(at)}/watch/-/why`}>
                  Why does it not arrive?
                </Link>
              </>
            ) : null}
            {head ? <Behind at={at} release={head.release} rows={joined} /> : null}
          </>
        }
      >
        {joined.length > 0
          ? `${there} of ${many(joined.length, "gateway")} that joined ${there === 1 ? "is" : "are"} there.`
          : "Which gateways are there, and do they run what was confirmed?"}
      </StageHead>
      <div className="px-6">
        <Trouble error={list.error} />
        <Now at={at} />
        {list.data && !list.data.taken ? (
          <p className="text-secondary mb-2" role="status">
            ○ This server takes no gateways: it was started without <code>--line-listen</code> and{" "}
            <code>--enrol-listen</code>.
          </p>
        ) : null}
      </div>
      {list.isPending || sites.isPending ? <Waiting what="the gateways" /> : <Gateways at={at} rows={rows} />}
    </div>
  );
}

/** The rows that match, the worst first, and those that have not joined last. */
function useRows(
  list: { gateways: GatewayRow[]; codes: { site: string; ends_at: string }[] } | undefined,
  sites: { key: string; name?: string }[] | undefined,
  query: string,
): Row[] {
  return useMemo(() => {
    const known = new Map((list?.gateways ?? []).map((g) => [g.site, g]));
    const codes = new Map((list?.codes ?? []).map((c) => [c.site, c.ends_at]));
    const all: Row[] = (sites ?? []).map((s) => ({
      site: s.key,
      name: s.name || s.key,
      gateway: known.get(s.key),
      code: codes.get(s.key),
    }));
    for (const g of known.values()) {
      if (!all.some((r) => r.site === g.site)) {
        all.push({ site: g.site, name: `${g.site} (not in this draft)`, gateway: g });
      }
    }
    const words = query.toLowerCase().split(/\s+/).filter(Boolean);
    const order = (r: Row) => (r.gateway ? standOf(r.gateway).order : 8.5);
    const dead = (r: Row) => r.gateway?.dead ?? 0;
    return all
      .filter((r) => {
        const text =
          `${r.site} ${r.name} ${r.gateway ? standOf(r.gateway).words : "not joined"}`.toLowerCase();
        return words.every((w) => text.includes(w));
      })
      .sort((a, b) => order(a) - order(b) || dead(b) - dead(a) || (a.site < b.site ? -1 : 1));
  }, [list, sites, query]);
}

function Gateways({ at, rows }: { at: Place; rows: Row[] }) {
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => 44,
    overscan: 12,
  });
  return (
    <>
      <div
        className={`${columns} px-6 pt-1 pb-1 shrink-0 overflow-hidden [scrollbar-gutter:stable] border-b-[1.5px] border-base-content text-xs font-semibold text-secondary`}
      >
        <span>Gateway of</span>
        <span>State</span>
        <span>Runs</span>
        <span className="text-right">Tunnels up</span>
        <span>Line</span>
        <span>Clock</span>
      </div>
      <div ref={box} className="grow overflow-auto px-6 [scrollbar-gutter:stable]" data-testid="gateways">
        {rows.length === 0 ? <p className="py-4 text-secondary">Nothing matches.</p> : null}
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((item) => {
            const row = rows[item.index] as Row;
            return (
              <div
                key={row.site}
                ref={virtual.measureElement}
                data-index={item.index}
                data-gateway={row.site}
                className={`absolute left-0 right-0 top-0 ${columns} py-1.5 border-b border-base-300 hover:bg-base-200/60`}
                style={{ transform: `translateY(${item.start}px)` }}
              >
                <Link className="min-w-0" to={`${pageOf(at)}/watch/${row.site}`}>
                  <span className="font-semibold block truncate">{row.name}</span>
                  <span className="font-mono text-xs text-secondary block truncate">{row.site}</span>
                </Link>
                {row.gateway ? <Joined g={row.gateway} /> : <NotJoined code={row.code} />}
              </div>
            );
          })}
        </div>
      </div>
    </>
  );
}

function Joined({ g }: { g: GatewayRow }) {
  return (
    <>
      <span className="min-w-0">
        <Stands g={g} />
        {g.words ? <span className="block text-xs text-secondary truncate">{g.words}</span> : null}
      </span>
      <span>
        {g.release ? `release ${g.release}` : g.digest ? "set by hand" : "nothing yet"}
        {g.wanted && g.wanted !== g.confirmed ? (
          <span className="block text-xs text-secondary">wanted: {g.wanted}</span>
        ) : null}
      </span>
      <span className="text-right tabular-nums">
        {g.tunnels ? `${g.tunnels - g.dead} of ${g.tunnels}` : "–"}
      </span>
      <span className="text-xs">
        {g.since ? (
          <>
            {g.up ? "since " : "lost "}
            <When at={g.since} />
          </>
        ) : (
          "never called"
        )}
      </span>
      <span className="text-xs">{Math.abs(g.clock_ms) >= 3000 ? clockText(g.clock_ms) : "right"}</span>
    </>
  );
}

function NotJoined({ code }: { code?: string }) {
  return (
    <>
      <span className="text-secondary">not joined</span>
      <span className="text-secondary text-xs col-span-4">
        {code ? (
          <>
            a join code waits until <When at={code} />
          </>
        ) : null}
      </span>
    </>
  );
}

/** Leads to the plan where gateways run an older release than the one in force. */
function Behind({ at, release, rows }: { at: Place; release: number; rows: GatewayRow[] }) {
  const behind = rows.filter((g) => !g.barred_at && g.confirmed !== release);
  if (release === 0 || behind.length === 0) {
    return null;
  }
  return (
    <Link className="btn btn-sm" to={`${pageOf(at)}/release?view=plan`}>
      Release {release} has not reached {many(behind.length, "gateway")}: plan it
    </Link>
  );
}
