import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useEffect, useMemo, useRef } from "react";
import { Link } from "react-router";
import type { EstateHead, LedgerSite } from "../../api/client";
import { type Place, pageOf } from "../../api/place";
import { LinkBars, ReachLegend } from "../../parts/link-bars";
import { Mark } from "../../parts/mark";
import { many } from "../../parts/number";
import { SiteEditor } from "./site-editor";

type Row = { region: string; count: number } | { site: LedgerSite };

const columns =
  "grid grid-cols-[minmax(190px,1.3fr)_minmax(250px,1.6fr)_minmax(240px,2fr)_72px_minmax(90px,0.7fr)] gap-x-4";

/** Ledger lists the sites by region, one row each; the open one is edited in place. */
export function Ledger(props: {
  at: Place;
  head: EstateHead;
  sites: LedgerSite[];
  open: string;
  query: string;
  onOpen: (site: string) => void;
}) {
  const rows = useMemo(
    () => rowsOf(props.sites, props.query, props.open),
    [props.sites, props.query, props.open],
  );
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => ("region" in (rows[i] as Row) ? 36 : 44),
    overscan: 12,
    getItemKey: (i) => {
      const row = rows[i] as Row;
      return "region" in row ? `region ${row.region}` : row.site.key;
    },
  });
  const at = (key: string) => rows.findIndex((r) => "site" in r && r.site.key === key);
  const focus = (row: number) =>
    requestAnimationFrame(() => box.current?.querySelector<HTMLElement>(`[data-row="${row}"]`)?.focus());
  const before = useRef("");
  // An opened site comes to the top; a closed one stays in sight and has the focus again.
  // biome-ignore lint/correctness/useExhaustiveDependencies: only when another site is opened or closed
  useEffect(() => {
    const opened = at(props.open);
    const closed = at(before.current);
    before.current = props.open;
    if (opened >= 0) {
      virtual.scrollToIndex(opened, { align: "start" });
    } else if (closed >= 0) {
      const timer = setTimeout(() => {
        virtual.scrollToIndex(closed, { align: "center" });
        focus(closed);
      }, 50);
      return () => clearTimeout(timer);
    }
  }, [props.open]);
  const move = (e: KeyboardEvent, at: number) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (!step) {
      return;
    }
    e.preventDefault();
    let next = at + step;
    while (rows[next] && "region" in (rows[next] as Row)) {
      next += step;
    }
    virtual.scrollToIndex(Math.max(0, next), { align: "auto" });
    focus(next);
  };
  return (
    <>
      <div
        className={`${columns} px-6 pt-1 pb-1 shrink-0 overflow-hidden [scrollbar-gutter:stable] border-b-[1.5px] border-base-content text-xs font-semibold text-secondary`}
      >
        <span>Site</span>
        <span className="flex gap-3 whitespace-nowrap">
          Links <ReachLegend />
        </span>
        <span>Subnets</span>
        <span className="text-right">Tunnels</span>
        <span>Findings</span>
      </div>
      <div ref={box} className="grow overflow-auto px-6 [scrollbar-gutter:stable]" data-testid="ledger">
        {rows.length === 0 ? <p className="py-4 text-secondary">No site matches “{props.query}”.</p> : null}
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((item) => {
            const row = rows[item.index] as Row;
            return (
              <div
                key={item.key}
                ref={virtual.measureElement}
                data-index={item.index}
                className="absolute left-0 right-0 top-0"
                style={{ transform: `translateY(${item.start}px)` }}
              >
                {"region" in row ? (
                  <h2 className="pt-3 pb-1 border-b border-base-300 flex gap-3 items-baseline">
                    {row.region || "No region"}
                    <span className="text-xs font-sans font-normal text-secondary">
                      {many(row.count, "site")}
                    </span>
                  </h2>
                ) : row.site.key === props.open ? (
                  <SiteEditor
                    key={row.site.key}
                    at={props.at}
                    head={props.head}
                    site={row.site}
                    onClose={() => props.onOpen("")}
                  />
                ) : (
                  <SiteRow
                    site={row.site}
                    at={props.at}
                    index={item.index}
                    onOpen={() => props.onOpen(row.site.key)}
                    onKeyDown={(e) => move(e, item.index)}
                  />
                )}
              </div>
            );
          })}
        </div>
      </div>
    </>
  );
}

function rowsOf(sites: LedgerSite[], query: string, open: string): Row[] {
  const words = query.toLowerCase().split(/\s+/).filter(Boolean);
  const matching = sites.filter((s) => {
    if (s.key === open) {
      return true;
    }
    const text = [
      s.key,
      s.name,
      s.region,
      ...(s.links ?? []).map((l) => `${l.key} ${l.provider} ${l.reach} ${l.addresses}`),
      ...(s.subnets ?? []).map((n) => `${n.prefix} ${n.zone} ${n.map}`),
    ]
      .join(" ")
      .toLowerCase();
    return words.every((w) => text.includes(w));
  });
  const regions = new Map<string, LedgerSite[]>();
  for (const s of matching) {
    const region = s.region ?? "";
    const list = regions.get(region);
    if (list) {
      list.push(s);
    } else {
      regions.set(region, [s]);
    }
  }
  return [...regions].flatMap(([region, list]) => [
    { region, count: list.length },
    ...list.map((site) => ({ site })),
  ]);
}

function SiteRow(props: {
  site: LedgerSite;
  at: Place;
  index: number;
  onOpen: () => void;
  onKeyDown: (e: KeyboardEvent) => void;
}) {
  const { site } = props;
  return (
    <div className={`${columns} py-1.5 border-b border-base-300 items-start hover:bg-base-200/60`}>
      <button
        type="button"
        className="text-left min-w-0"
        data-row={props.index}
        data-site={site.key}
        onClick={props.onOpen}
        onKeyDown={props.onKeyDown}
        title={`Edit ${site.name}`}
      >
        <span className="font-semibold block truncate">{site.name}</span>
        <span className="font-mono text-xs text-secondary block truncate">
          {site.key}
          {site.gateway?.placement === "one-armed" ? " · one-armed" : ""}
          {site.hub_fit ? " · can be a hub" : ""}
        </span>
      </button>
      <LinkBars links={site.links ?? []} />
      <ul className="font-mono text-xs flex flex-wrap gap-x-3 leading-5 min-w-0">
        {(site.subnets ?? []).map((n) => (
          <li
            key={n.prefix}
            className={n.share?.length ? "" : "text-secondary"}
            title={`${n.zone ?? "no zone"}${n.share?.length ? `, shared into ${n.share.join(", ")}` : ", not shared"}`}
          >
            {n.prefix}
            {n.map ? ` → ${n.map}` : ""}
            <span className="text-secondary"> {n.zone}</span>
          </li>
        ))}
      </ul>
      <Link className="link link-hover text-right" to={`${pageOf(props.at)}/paths/${site.key}`}>
        {site.tunnels}
      </Link>
      <span className="text-xs flex flex-col">
        {site.errors ? <Mark severity="error" count={site.errors} /> : null}
        {site.warnings ? <Mark severity="warning" count={site.warnings} /> : null}
      </span>
    </div>
  );
}
