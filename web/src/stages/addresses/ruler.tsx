import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useMemo, useRef } from "react";
import type { Held, Space } from "../../api/client";
import { lookAt } from "../../parts/look";
import { holds, meets, type Range, rangeOf, share, written } from "./prefix";

export interface Block extends Held {
  range: Range;
}

/** A line of the ruler: a stretch of address space with what is in it. */
type Line =
  | { kind: "title"; prefix: string; name: string; used: number }
  | { kind: "stretch"; prefix: string; range: Range; blocks: Block[]; lanes: number[] }
  | { kind: "run"; prefix: string; bits: number; count: number; block?: Block };

/** A stretch is cut so finely that what is used in it takes about this many lines. */
const ENOUGH = 9;
/** But into sixteen lines at least, and not into more than 2 to this power. */
const FINEST = 10;

/** cut finds how fine the lines of a stretch are to be. */
function cut(whole: Range, inside: Block[]): number {
  const most = whole.v6 ? 128 : 32;
  // Not finer than leaves eight of the smallest blocks to a line.
  const upper = Math.max(whole.bits, Math.max(...inside.map((b) => b.range.bits), whole.bits + 7) - 3);
  let bits = Math.min(whole.bits + 4, upper, most);
  const lines = (fine: number) => {
    const shift = BigInt(most - fine);
    const seen = new Set<bigint>();
    for (const b of inside) {
      seen.add((holds(whole, b.range) ? b.range.start : whole.start) >> shift);
    }
    return seen.size;
  };
  while (bits < Math.min(whole.bits + FINEST, upper, most) && lines(bits + 1) <= ENOUGH) {
    bits++;
  }
  return bits;
}

/**
 * linesOf cuts a stretch of address space into lines. Runs of lines that hold
 * nothing, or one and the same block, become one line.
 */
function linesOf(prefix: string, name: string, blocks: Block[]): Line[] {
  const whole = rangeOf(prefix);
  const inside = blocks.filter((b) => meets(whole, b.range));
  const bits = cut(whole, inside);
  const out: Line[] = [{ kind: "title", prefix, name, used: inside.length }];
  const size = whole.size >> BigInt(bits - whole.bits);
  for (let start = whole.start; start < whole.start + whole.size; start += size) {
    const range: Range = { v6: whole.v6, start, size, bits };
    const here = inside.filter((b) => meets(range, b.range));
    const only = here.length === 1 && here[0] && holds(here[0].range, range) ? here[0] : undefined;
    const last = out[out.length - 1];
    if (last?.kind === "run" && last.block === only && (only || here.length === 0)) {
      last.count++;
    } else if (only || here.length === 0) {
      out.push({ kind: "run", prefix: written(whole.v6, start, bits), bits, count: 1, block: only });
    } else {
      out.push({
        kind: "stretch",
        prefix: written(whole.v6, start, bits),
        range,
        blocks: here,
        lanes: lanesOf(here),
      });
    }
  }
  return out;
}

/** Blocks that overlap are drawn one below the other: the lane of each. */
function lanesOf(blocks: Block[]): number[] {
  const ends: bigint[] = [];
  return blocks.map((b) => {
    const free = ends.findIndex((end) => end <= b.range.start);
    const lane = free < 0 ? ends.length : free;
    ends[lane] = b.range.start + b.range.size;
    return lane;
  });
}

const LANE = 24;
const depth = (lanes: number[]) => (Math.max(...lanes) + 1) * LANE + 4;

function heightOf(line?: Line): number {
  return line?.kind === "title" ? 34 : line?.kind === "stretch" ? depth(line.lanes) : 20;
}

/** Groups what lies outside all region blocks by /16, or /48 of IPv6. */
function elsewhere(blocks: Block[], rooms: Range[]): string[] {
  const groups = new Set<string>();
  for (const b of blocks) {
    if (rooms.some((r) => holds(r, b.range))) {
      continue;
    }
    const bits = Math.min(b.range.v6 ? 48 : 16, b.range.bits);
    const shift = BigInt((b.range.v6 ? 128 : 32) - bits);
    groups.add(written(b.range.v6, (b.range.start >> shift) << shift, bits));
  }
  return [...groups].sort();
}

/** Ruler draws address space to scale, line by line. */
export function Ruler(props: {
  space: Space;
  within: string;
  chosen: string;
  onZoom: (prefix: string) => void;
  onChoose: (block: Block) => void;
}) {
  const { space, within } = props;
  const blocks = useMemo(
    () =>
      space.held
        .map((h) => ({ ...h, range: rangeOf(h.prefix) }))
        .sort((a, b) =>
          a.range.start < b.range.start
            ? -1
            : a.range.start > b.range.start
              ? 1
              : b.range.size > a.range.size
                ? 1
                : -1,
        ),
    [space.held],
  );
  const lines = useMemo(() => {
    if (within) {
      return linesOf(within, "", blocks);
    }
    const rooms = space.rooms.map((r) => rangeOf(r.block));
    return [
      ...space.rooms.flatMap((r) => linesOf(r.block, r.region, blocks)),
      ...elsewhere(blocks, rooms).flatMap((p) => linesOf(p, "outside the regions", blocks)),
    ];
  }, [space, blocks, within]);
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => heightOf(lines[i]),
    overscan: 10,
  });
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must take the keyboard
    <section ref={box} className="overflow-auto h-full" aria-label="Ruler" tabIndex={0}>
      <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {virtual.getVirtualItems().map((item) => (
          <div
            key={item.key}
            className="absolute left-0 right-0"
            style={{ transform: `translateY(${item.start}px)`, height: item.size }}
          >
            <RulerLine line={lines[item.index] as Line} {...props} />
          </div>
        ))}
      </div>
    </section>
  );
}

/** RulerLine is drawn once; scrolling only moves it. */
const RulerLine = memo(function RulerLine(props: {
  line: Line;
  within: string;
  chosen: string;
  onZoom: (prefix: string) => void;
  onChoose: (block: Block) => void;
}) {
  const { line } = props;
  if (line.kind === "title") {
    return (
      <div className="pt-2 flex gap-3 items-baseline border-b border-base-content">
        <h3 className="text-base">{line.name || "Within"}</h3>
        <span className="font-mono">{line.prefix}</span>
        <span className="text-xs text-secondary">{line.used} blocks in use</span>
        {props.within ? (
          <button type="button" className="link text-xs ml-auto" onClick={() => props.onZoom("")}>
            All address space
          </button>
        ) : null}
      </div>
    );
  }
  if (line.kind === "run") {
    const extent = line.count === 1 ? "" : `, ${line.count} × /${line.bits}`;
    const block = line.block;
    return (
      <div className="grid grid-cols-[13rem_minmax(0,1fr)] text-xs text-secondary items-center h-5">
        <span className="font-mono">{line.prefix}</span>
        {block ? (
          <button
            type="button"
            className="text-left border-b border-base-content truncate hover:bg-base-200"
            onClick={() => props.onChoose(block)}
          >
            all {words[block.what] || "subnet"} {block.overlay ?? block.name ?? block.site}
            {extent}
          </button>
        ) : (
          <span className="border-b border-dotted border-base-300">free{extent}</span>
        )}
      </div>
    );
  }
  return (
    <div className="grid grid-cols-[13rem_minmax(0,1fr)] items-center" style={{ height: depth(line.lanes) }}>
      <button
        type="button"
        className="font-mono text-xs text-left hover:underline truncate"
        title={`Zoom into ${line.prefix}`}
        onClick={() => props.onZoom(line.prefix)}
      >
        {line.prefix}
      </button>
      <div className="relative h-full border-l border-base-300 ruler-ground">
        {line.blocks.map((b, i) => (
          <Bar
            key={`${b.what} ${b.prefix} ${b.site}`}
            block={b}
            line={line.range}
            lane={line.lanes[i] ?? 0}
            on={props.chosen === `${b.site ?? ""} ${b.prefix}`}
            onChoose={() => props.onChoose(b)}
          />
        ))}
      </div>
    </div>
  );
});

const words = { subnet: "", map: "mapped", transit: "transit pool", reserved: "reserved" };

/** Bar is one block, as wide as its share of the line. */
function Bar(props: { block: Block; line: Range; lane: number; on: boolean; onChoose: () => void }) {
  const { block: b, line, on, onChoose } = props;
  const { from, width } = share(line, b.range);
  const clash = b.clash === "error" && b.what === "subnet";
  const look =
    b.what === "reserved"
      ? "border-dashed border-base-content"
      : b.what === "transit"
        ? "bg-info/25 border-info"
        : b.what === "map"
          ? "border-primary border-dotted"
          : b.share.length > 0
            ? "bg-primary/30 border-primary"
            : "bg-base-300 border-secondary";
  const label = b.site ?? b.overlay ?? b.name;
  const text = [
    b.prefix,
    words[b.what],
    b.site ? `at ${b.site}` : (b.overlay ?? ""),
    b.zone ?? "",
    b.name ?? "",
  ]
    .filter(Boolean)
    .join(" ");
  return (
    <button
      type="button"
      data-look={b.site ? lookAt({ kind: "subnet", site: b.site, prefix: b.mapped ?? b.prefix }) : undefined}
      className={`absolute h-[22px] border overflow-hidden text-left text-[11px] leading-4 px-0.5 whitespace-nowrap ${look} ${clash ? "clash" : ""} ${on ? "outline-2 outline-base-content" : ""}`}
      style={{ top: 2 + props.lane * LANE, left: `${from * 100}%`, width: `max(3px, ${width * 100}%)` }}
      title={`${text}${clash ? " — collides" : b.clash ? ` — ${b.clash}` : ""}`}
      aria-label={`${text}${clash ? ", collides" : ""}`}
      onClick={onChoose}
    >
      {width > 0.045 ? `${clash ? "■ " : ""}${label}` : ""}
    </button>
  );
}
