import {
  DndContext,
  type DragEndEvent,
  PointerSensor,
  useDraggable,
  useDroppable,
  useSensor,
  useSensors,
} from "@dnd-kit/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useMemo, useRef, useState } from "react";
import type { LoomBand, Loom as LoomOf, LoomPair, LoomRow } from "../../api/client";
import type { Place } from "../../api/place";
import { useMayEdit } from "../../api/queries";
import { type LoomTile, useHubOrder, useLoom, useLoomTiles } from "../../api/shape";
import { count, many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** A row of the loom: a site, or a region with the spokes in it. */
type Row =
  | { kind: "region"; region: string; sites: LoomRow[] }
  | { kind: "site"; row: LoomRow; number: number };

/** What a cell shows: a pair of sites, what joins two regions, or hub places. */
type Shown =
  | { kind: "pair"; site: LoomRow; pair?: LoomPair; waiting: boolean }
  | { kind: "band"; region: string; band?: LoomBand }
  | { kind: "places"; sites: LoomRow[] };

const HEIGHT = 34;
const COLUMN = 96;
/** The most columns and cells that are asked for at once. */
const TILE_COLUMNS = 64;
const TILE_CELLS = 4096;

/**
 * Loom shows an overlay pair by pair: rows are sites, columns their hubs or,
 * in a mesh, all sites. A spoke's hubs change places by dragging one cell onto
 * another, or with Alt and the arrows; in a region's row for all its spokes.
 */
export function Loom(props: {
  at: Place;
  overlay: string;
  open: { a: string; b: string };
  onOpen: (a: string, b: string) => void;
  onLook: (site: string) => void;
}) {
  const { at, overlay } = props;
  const loom = useLoom(at, overlay);
  const order = useHubOrder(at, overlay);
  const mayEdit = useMayEdit(at);
  const [query, setQuery] = useState("");
  const [folded, setFolded] = useState(false);
  const rows = useMemo(() => rowsOf(loom.data, query, folded), [loom.data, query, folded]);
  const mesh = (loom.data?.regions.length ?? 0) > 0;
  const byRegion = mesh && folded;
  const columns = byRegion
    ? rows.map((r) => (r.kind === "region" ? r.region : ""))
    : (loom.data?.columns ?? []);
  const box = useRef<HTMLDivElement>(null);
  const vertical = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => HEIGHT,
    overscan: 8,
  });
  const horizontal = useVirtualizer({
    horizontal: true,
    count: columns.length,
    getScrollElement: () => box.current,
    estimateSize: () => COLUMN,
    overscan: 2,
  });
  const pairAt = usePairs(
    at,
    overlay,
    columns.length,
    byRegion ? [] : sitesIn(rows, vertical.getVirtualItems()),
    horizontal.getVirtualItems().map((c) => c.index),
  );
  const shown = (row: Row, column: number): Shown => {
    if (row.kind === "site") {
      const pair = pairAt(row.number, column);
      return { kind: "pair", site: row.row, pair, waiting: pair === undefined };
    }
    if (byRegion) {
      return { kind: "band", region: row.region, band: bandOf(loom.data, row.region, columns[column] ?? "") };
    }
    return { kind: "places", sites: row.sites };
  };
  const sensors = useSensors(useSensor(PointerSensor, { activationConstraint: { distance: 6 } }));
  const swap = swapper((sites, hubs) => order.mutate({ sites, hubs }));
  const drop = (e: DragEndEvent) => {
    const from = e.active.data.current as { row: Row; column: string } | undefined;
    const to = e.over?.data.current as { row: Row; column: string } | undefined;
    if (from && to && from.row === to.row) {
      swap(spokesOf(from.row), from.column, to.column);
    }
  };
  const focus = (r: number, c: number) => {
    vertical.scrollToIndex(Math.max(0, Math.min(r, rows.length - 1)));
    requestAnimationFrame(() => box.current?.querySelector<HTMLElement>(`[data-cell="${r} ${c}"]`)?.focus());
  };
  /** Arrows go from cell to cell; with Alt they move the cell's hub in the order. */
  const press = (e: KeyboardEvent, row: Row, at: number, column: number) => {
    const step = { ArrowLeft: -1, ArrowRight: 1 }[e.key] ?? 0;
    const down = { ArrowUp: -1, ArrowDown: 1 }[e.key] ?? 0;
    if (e.altKey && step && mayEdit) {
      e.preventDefault();
      const hub = columns[column] ?? "";
      const hubs = spokesOf(row)[0]?.hubs ?? [];
      swap(spokesOf(row), hub, hubs[hubs.indexOf(hub) + step] ?? hub);
    } else if (!e.altKey && (step || down)) {
      e.preventDefault();
      focus(at + down, column + step);
    }
  };
  return (
    <section aria-label="Loom" className="flex flex-col min-h-0 h-full">
      <LoomHead
        query={query}
        folded={folded}
        hint={mayEdit && !mesh ? "Drag a cell onto another, or Alt+← →, to change the order" : ""}
        saving={order.isPending}
        onQuery={setQuery}
        onFold={setFolded}
      />
      <Trouble error={loom.error ?? order.error} />
      {loom.isPending ? <Waiting what="the loom" /> : null}
      <DndContext sensors={sensors} onDragEnd={drop}>
        <div ref={box} className="overflow-auto grow min-h-40 border-t-[1.5px] border-base-content">
          <div
            style={{
              height: vertical.getTotalSize() + HEIGHT,
              width: 220 + horizontal.getTotalSize(),
              position: "relative",
            }}
          >
            <ColumnHeads
              heads={horizontal
                .getVirtualItems()
                .map((c) => ({ left: c.start, name: columns[c.index] ?? "" }))}
            />
            {vertical.getVirtualItems().map((item) => {
              const row = rows[item.index] as Row;
              return (
                <div
                  key={row.kind === "site" ? row.row.site : `region ${row.region}`}
                  className={`absolute left-0 right-0 h-[34px] border-b border-base-300 ${row.kind === "region" ? "bg-base-200" : "bg-base-100"}`}
                  style={{ transform: `translateY(${item.start}px)` }}
                >
                  <RowName row={row} onLook={props.onLook} />
                  {horizontal.getVirtualItems().map((c) => (
                    <Cell
                      key={c.key}
                      left={220 + c.start}
                      id={`${item.index} ${c.index}`}
                      row={row}
                      shown={shown(row, c.index)}
                      column={columns[c.index] ?? ""}
                      mayEdit={mayEdit && !mesh}
                      on={isPair(props.open, row.kind === "site" ? row.row.site : "", columns[c.index] ?? "")}
                      onOpen={props.onOpen}
                      onKeyDown={(e) => press(e, row, item.index, c.index)}
                    />
                  ))}
                </div>
              );
            })}
          </div>
        </div>
      </DndContext>
    </section>
  );
}

/** Puts the hub of one column where that of another is, for some spokes. */
const swapper =
  (save: (sites: string[], hubs: string[]) => void) => (sites: LoomRow[], from: string, to: string) => {
    const hubs = [...(sites[0]?.hubs ?? [])];
    const [a, b] = [hubs.indexOf(from), hubs.indexOf(to)];
    if (from === to || a < 0 || b < 0) {
      return;
    }
    hubs.splice(a, 1);
    hubs.splice(b, 0, from);
    save(
      sites.map((s) => s.site),
      hubs,
    );
  };

const spokesOf = (row: Row) =>
  (row.kind === "site" ? [row.row] : row.sites).filter((s) => s.role === "spoke");

/** ColumnHeads names the columns in sight. */
function ColumnHeads({ heads }: { heads: { left: number; name: string }[] }) {
  return (
    <div className="sticky top-0 z-10 bg-base-100 border-b border-base-content h-[34px]">
      {heads.map((h) => (
        <span
          key={h.name}
          className="absolute top-2 text-xs font-mono font-semibold truncate text-center"
          style={{ left: 220 + h.left, width: COLUMN - 6 }}
          title={h.name}
        >
          {h.name}
        </span>
      ))}
    </div>
  );
}

/** Whether two sites are the pair that is open, either way round. */
const isPair = (open: { a: string; b: string }, x: string, y: string) =>
  x !== y && [open.a, open.b].includes(x) && [open.a, open.b].includes(y);

/** The numbers of the rows in sight that are sites. */
const sitesIn = (rows: Row[], inSight: { index: number }[]) =>
  inSight.flatMap((i) => {
    const row = rows[i.index];
    return row?.kind === "site" ? [row.number] : [];
  });

/** LoomHead is what stands above the loom. */
function LoomHead(props: {
  query: string;
  folded: boolean;
  hint: string;
  saving: boolean;
  onQuery: (query: string) => void;
  onFold: (folded: boolean) => void;
}) {
  return (
    <div className="flex gap-3 items-center mb-1">
      <h2 className="text-lg">Loom</h2>
      <input
        className="cell w-44"
        aria-label="Filter the loom"
        placeholder="Filter"
        value={props.query}
        onChange={(e) => props.onQuery(e.target.value)}
      />
      <label className="flex gap-1.5 items-center">
        <input type="checkbox" checked={props.folded} onChange={(e) => props.onFold(e.target.checked)} />
        regions only
      </label>
      <span className="ml-auto text-xs text-secondary">
        {props.hint}
        {props.saving ? " … saving" : ""}
      </span>
    </div>
  );
}

function rowsOf(loom: LoomOf | undefined, query: string, folded: boolean): Row[] {
  const words = query.toLowerCase().split(/\s+/).filter(Boolean);
  const regions = new Map<string, { row: LoomRow; number: number }[]>();
  for (const [number, row] of (loom?.rows ?? []).entries()) {
    const text = `${row.site} ${row.name} ${row.region}`.toLowerCase();
    if (words.every((w) => text.includes(w))) {
      const of = regions.get(row.region) ?? [];
      of.push({ row, number });
      regions.set(row.region, of);
    }
  }
  return [...regions].flatMap(([region, sites]): Row[] => [
    { kind: "region", region, sites: sites.map((s) => s.row) },
    ...(folded ? [] : sites.map((s): Row => ({ kind: "site", ...s }))),
  ]);
}

/**
 * The pairs of the rows and columns that are in sight, by the numbers the loom
 * gives them. They come in tiles, so that scrolling asks for few things twice.
 */
function usePairs(at: Place, overlay: string, of: number, rows: number[], columns: number[]) {
  const across = Math.min(TILE_COLUMNS, Math.max(1, of));
  const down = Math.ceil(TILE_CELLS / across);
  const tileOf = (n: number, size: number) => Math.floor(n / size);
  const downs = [...new Set(rows.map((n) => tileOf(n, down)))];
  const acrosses = [...new Set(columns.map((n) => tileOf(n, across)))];
  const tiles: LoomTile[] = downs.flatMap((r) =>
    acrosses.map((c) => ({ row: r * down, rows: down, column: c * across, columns: across })),
  );
  const got = useLoomTiles(at, overlay, tiles);
  return (row: number, column: number): LoomPair | undefined => {
    const tile =
      downs.indexOf(tileOf(row, down)) * acrosses.length + acrosses.indexOf(tileOf(column, across));
    return got[tile]?.[row % down]?.[column % across];
  };
}

function bandOf(loom: LoomOf | undefined, x: string, y: string): LoomBand | undefined {
  return loom?.regions.find((b) => (b.a === x && b.b === y) || (b.a === y && b.b === x));
}

function RowName({ row, onLook }: { row: Row; onLook: (site: string) => void }) {
  const style = "sticky left-0 w-[214px] h-full flex items-center gap-2 bg-inherit pr-2";
  if (row.kind === "region") {
    return (
      <span className={`${style} font-serif font-semibold`}>
        {row.region || "No region"}
        <span className="text-xs font-sans font-normal text-secondary">{many(row.sites.length, "site")}</span>
      </span>
    );
  }
  return (
    <span className={style} title={row.row.name}>
      <button
        type="button"
        className="truncate text-left hover:underline"
        data-site={row.row.site}
        onClick={() => onLook(row.row.site)}
      >
        {row.row.name}
      </button>
      <span className="text-xs text-secondary ml-auto whitespace-nowrap">
        {row.row.role === "spoke" ? (row.row.own ? "own order" : "") : row.row.role}
      </span>
    </span>
  );
}

function Cell(props: {
  left: number;
  id: string;
  row: Row;
  shown: Shown;
  column: string;
  mayEdit: boolean;
  on: boolean;
  onOpen: (a: string, b: string) => void;
  onKeyDown: (e: KeyboardEvent) => void;
}) {
  const { row, column, shown } = props;
  const data = { row, column };
  const movable = props.mayEdit && (row.kind === "region" || row.row.role === "spoke");
  const drag = useDraggable({ id: `drag ${props.id}`, data, disabled: !movable });
  const drop = useDroppable({ id: `drop ${props.id}`, data, disabled: !movable });
  const said = saidOf(shown, column);
  const moved = drag.transform ? `translateX(${drag.transform.x}px)` : undefined;
  const set = (node: HTMLElement | null) => {
    drag.setNodeRef(node);
    drop.setNodeRef(node);
  };
  return (
    <button
      ref={set}
      type="button"
      data-cell={props.id}
      {...drag.listeners}
      className={`absolute top-0.5 h-[30px] flex items-center gap-1 px-1.5 text-xs hover:bg-base-300/60 ${drop.isOver && !drag.isDragging ? "bg-base-300" : ""} ${drag.isDragging ? "z-20 bg-base-100 outline-1 outline-base-content" : ""} ${props.on ? "outline-2 outline-primary" : ""}`}
      style={{ left: props.left, width: COLUMN - 6, transform: moved }}
      title={said}
      onClick={() => {
        if (row.kind === "site" && row.row.site !== column) {
          props.onOpen(row.row.site, column);
        }
      }}
      onKeyDown={props.onKeyDown}
    >
      <span className="sr-only">{said}</span>
      <span aria-hidden="true" className="flex items-center gap-1">
        {shown.kind === "pair" ? (
          <Threads pair={shown.pair} waiting={shown.waiting} />
        ) : (
          <span className="font-mono">
            {shown.kind === "band" ? bandText(shown.band) : shareOf(shown.sites, column)}
          </span>
        )}
      </span>
    </button>
  );
}

function saidOf(shown: Shown, column: string): string {
  if (shown.kind === "band") {
    const { band } = shown;
    return band
      ? `${shown.region} and ${column}: ${many(band.pairs, "pair")}, ${many(band.tunnels, "tunnel")}, ${many(band.apart, "pair")} cannot be joined`
      : `${shown.region} and ${column}: no pairs`;
  }
  if (shown.kind === "places") {
    return `${shareOf(shown.sites, column)}: how many of the spokes have ${column} as hub number 1, 2 and so on`;
  }
  const { site, pair } = shown;
  if (site.site === column) {
    return `${site.site} itself`;
  }
  if (shown.waiting) {
    return `${site.site} and ${column}: loading`;
  }
  if (!pair?.joined) {
    return `${site.site} and ${column}: not joined`;
  }
  if (pair.tunnels === 0) {
    return `${site.site} and ${column} cannot be joined: ${pair.apart ?? "no links fit"}`;
  }
  const place = pair.position ? `, its hub number ${pair.position}` : "";
  return `${site.site} and ${column}: ${many(pair.tunnels, "tunnel")}${place}`;
}

/** How many pairs two regions have, and how many of those cannot be joined. */
function bandText(band?: LoomBand): string {
  if (!band) {
    return "";
  }
  return band.apart > 0 ? `${count(band.pairs)} ▲${count(band.apart)}` : many(band.pairs, "pair");
}

/** The tunnels of a pair as threads, the first choice thickest. */
function Threads({ pair, waiting }: { pair?: LoomPair; waiting: boolean }) {
  if (waiting) {
    return <span className="text-secondary">…</span>;
  }
  if (!pair?.joined) {
    return null;
  }
  if (pair.tunnels === 0) {
    return <span className="text-warning">▲ apart</span>;
  }
  const threads = Math.min(pair.tunnels, 6);
  return (
    <>
      <span className="w-3 text-right text-secondary">{pair.position || ""}</span>
      <svg width="44" height="26" aria-hidden="true">
        {Array.from({ length: threads }, (_, i) => (
          <line
            // biome-ignore lint/suspicious/noArrayIndexKey: a thread is its rank
            key={i}
            x1="0"
            x2="44"
            y1={4 + i * 4}
            y2={4 + i * 4}
            stroke="currentColor"
            className="text-primary"
            strokeWidth={i === 0 ? 3 : i === 1 ? 1.75 : 1}
          />
        ))}
      </svg>
      <span>{pair.tunnels}</span>
    </>
  );
}

/** How many of some spokes have the hub first, second and so on. */
function shareOf(sites: LoomRow[], hub: string): string {
  const places = new Map<number, number>();
  for (const s of sites) {
    const place = s.hubs.indexOf(hub) + 1;
    if (place > 0) {
      places.set(place, (places.get(place) ?? 0) + 1);
    }
  }
  return [...places]
    .sort(([a], [b]) => a - b)
    .map(([place, n]) => `${place}:${n}`)
    .join(" ");
}
