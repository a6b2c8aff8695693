import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useRef } from "react";
import type { Held, RulerBar, RulerLine, Space } from "../../api/client";
import { lookAt } from "../../parts/look";
import { many } from "../../parts/number";

const LANE = 24;
const depth = (bars: RulerBar[]) => (Math.max(...bars.map((b) => b.lane)) + 1) * LANE + 4;

const heightOf = (line?: RulerLine) =>
  line?.kind === "title" ? 34 : line?.kind === "stretch" ? depth(line.bars ?? []) : 20;

/** Ruler draws address space to scale, line by line. */
export function Ruler(props: {
  space: Space;
  within: string;
  chosen: string;
  onZoom: (prefix: string) => void;
  onChoose: (block: Held) => void;
}) {
  const { held, lines } = props.space;
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
            <Line line={lines[item.index] as RulerLine} held={held} {...props} />
          </div>
        ))}
      </div>
    </section>
  );
}

/** Line is drawn once; scrolling only moves it. */
const Line = memo(function Line(props: {
  line: RulerLine;
  held: Held[];
  within: string;
  chosen: string;
  onZoom: (prefix: string) => void;
  onChoose: (block: Held) => void;
}) {
  const { line, held } = props;
  if (line.kind === "title") {
    return (
      <div className="pt-2 flex gap-3 items-baseline border-b border-base-content">
        <h3 className="text-base">{line.name || "Within"}</h3>
        <span className="font-mono">{line.prefix}</span>
        <span className="text-xs text-secondary">{many(line.used ?? 0, "block")} in use</span>
        {props.within ? (
          <button type="button" className="link text-xs ml-auto" onClick={() => props.onZoom("")}>
            All address space
          </button>
        ) : null}
      </div>
    );
  }
  if (line.kind === "run") {
    const extent = line.count === 1 ? "" : `, ${line.count} × /${line.prefix.split("/")[1]}`;
    const block = line.block === undefined ? undefined : held[line.block];
    return (
      <div className="grid grid-cols-[13rem_minmax(0,1fr)] text-xs text-secondary items-center h-5">
        <span className="font-mono">{line.prefix}</span>
        {block ? (
          <button
            type="button"
            className="text-left border-b border-base-content truncate hover:bg-base-200"
            onClick={() => props.onChoose(block)}
          >
            filled by{" "}
            {[words[block.what], block.overlay ?? block.name, block.site && `at ${block.site}`]
              .filter(Boolean)
              .join(" ")}
            {extent}
          </button>
        ) : (
          <span className="border-b border-dotted border-base-300">free{extent}</span>
        )}
      </div>
    );
  }
  return (
    <div
      className="grid grid-cols-[13rem_minmax(0,1fr)] items-center"
      style={{ height: depth(line.bars ?? []) }}
    >
      <button
        type="button"
        className="font-mono text-xs text-left hover:underline truncate"
        title={`Zoom into ${line.prefix}`}
        onClick={() => props.onZoom(line.prefix)}
      >
        {line.prefix}
      </button>
      <div className="relative h-full border-l border-base-300 ruler-ground">
        {line.bars?.map((bar) => {
          const b = held[bar.block] as Held;
          return (
            <Bar
              key={bar.block}
              block={b}
              bar={bar}
              on={props.chosen === `${b.site ?? ""} ${b.prefix}`}
              onChoose={() => props.onChoose(b)}
            />
          );
        })}
      </div>
    </div>
  );
});

const words = { subnet: "", map: "mapped", transit: "transit pool", reserved: "reserved" };

/** Bar is one block, as wide as its share of the line. */
function Bar(props: { block: Held; bar: RulerBar; on: boolean; onChoose: () => void }) {
  const { block: b, on, onChoose } = props;
  const { from, width, lane } = props.bar;
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
      style={{ top: 2 + lane * LANE, left: `${from * 100}%`, width: `max(3px, ${width * 100}%)` }}
      title={`${text}${clash ? " — collides" : b.clash ? ` — ${b.clash}` : ""}`}
      aria-label={`${text}${clash ? ", collides" : ""}`}
      onClick={onChoose}
    >
      {width > 0.045 ? `${clash ? "■ " : ""}${label}` : ""}
    </button>
  );
}
