import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, memo, useMemo, useRef } from "react";
import type { OutageRow, Outages } from "../../api/client";
import { partOf, partText } from "../../parts/failing";
import { count, many } from "../../parts/number";
import { type Letter, verdicts } from "./words";

const HEIGHT = 26;
const NAME = 210;
const COUNTS = 184;
/** With more sites than this a column is a region. */
const MOST = 80;

interface Column {
  key: string;
  title: string;
  region: string;
  from: number;
  to: number;
}

/** Grid is failures by sites: what each failure does to each. */
export function Grid(props: {
  outages: Outages;
  chosen: string[];
  onChoose: (parts: string[], more: boolean) => void;
}) {
  const { outages } = props;
  const columns = useMemo(() => columnsOf(outages), [outages]);
  const byRegion = outages.sites.length > MOST;
  const width = byRegion ? 130 : 17;
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: outages.rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => HEIGHT,
    overscan: 12,
  });
  const press = (e: KeyboardEvent, at: number) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (step) {
      e.preventDefault();
      const next = Math.max(0, Math.min(outages.rows.length - 1, at + step));
      rows.scrollToIndex(next);
      requestAnimationFrame(() =>
        box.current?.querySelector<HTMLElement>(`[data-failure="${next}"]`)?.focus(),
      );
    }
  };
  const head = byRegion ? 30 : 104;
  return (
    <div ref={box} className="overflow-auto grow min-h-40 border-t-[1.5px] border-base-content">
      <div
        className="relative"
        style={{ height: rows.getTotalSize() + head, width: NAME + COUNTS + columns.length * width + 40 }}
      >
        <div
          className="sticky top-0 z-10 bg-base-100 border-b border-base-content text-xs"
          style={{ height: head }}
        >
          <span
            className="sticky left-0 z-[2] bg-base-100 h-full flex items-end pb-1 font-semibold"
            style={{ width: NAME + COUNTS - 8 }}
          >
            <span className="shrink-0" style={{ width: NAME - 8 }}>
              What fails
            </span>
            <span className="w-11 text-right">cut</span>
            <span className="w-15 text-right">squeezed</span>
            <span className="w-15 text-right">moved</span>
          </span>
          {columns.map((c, i) => (
            <span
              key={c.key}
              className={`absolute bottom-1 font-mono text-[11px] ${byRegion ? "" : "origin-bottom-left -rotate-60 whitespace-nowrap max-w-28 truncate"}`}
              style={{ left: NAME + COUNTS + i * width + (byRegion ? 0 : 12) }}
              title={c.title}
            >
              {c.key}
            </span>
          ))}
        </div>
        {rows.getVirtualItems().map((item) => {
          const row = outages.rows[item.index] as OutageRow;
          return (
            <Row
              key={row.fail.join(" ")}
              row={row}
              columns={columns}
              width={width}
              byRegion={byRegion}
              on={row.fail.every((f) => props.chosen.includes(f))}
              top={item.start}
              index={item.index}
              onChoose={props.onChoose}
              onKeyDown={press}
            />
          );
        })}
      </div>
    </div>
  );
}

function columnsOf(outages: Outages): Column[] {
  if (outages.sites.length <= MOST) {
    return outages.sites.map((s, i) => ({
      key: s.site,
      title: `${s.name}, ${s.region || "no region"}`,
      region: s.region,
      from: i,
      to: i + 1,
    }));
  }
  const out: Column[] = [];
  for (const [i, s] of outages.sites.entries()) {
    const last = out.at(-1);
    if (last && last.region === s.region) {
      last.to = i + 1;
    } else {
      out.push({ key: s.region || "no region", title: s.region, region: s.region, from: i, to: i + 1 });
    }
  }
  return out;
}

const Row = memo(function Row(props: {
  row: OutageRow;
  columns: Column[];
  width: number;
  byRegion: boolean;
  on: boolean;
  top: number;
  index: number;
  onChoose: (parts: string[], more: boolean) => void;
  onKeyDown: (e: KeyboardEvent, at: number) => void;
}) {
  const { row, columns, width } = props;
  return (
    <div
      className={`absolute left-0 right-0 border-b border-base-300 text-[13px] ${props.on ? "bg-base-300" : ""}`}
      style={{ height: HEIGHT, transform: `translateY(${props.top}px)` }}
    >
      <div
        className={`sticky left-0 z-[1] h-full flex items-center ${props.on ? "bg-base-300" : "bg-base-100"}`}
        style={{ width: NAME + COUNTS - 8 }}
      >
        <button
          type="button"
          data-failure={props.index}
          className="h-full text-left truncate hover:underline shrink-0"
          style={{ width: NAME - 8 }}
          aria-pressed={props.on}
          aria-label={`${row.fail.map(partText).join(" and ")}: ${many(row.cut, "pair")} cut, ${row.squeezed} squeezed, ${row.moved} moved${row.lost.length > 0 ? `; cuts ${row.lost.join(", ")}` : ""}`}
          title="Choose it; with Ctrl it fails together with what is chosen"
          onClick={(e) => props.onChoose(row.fail, e.ctrlKey || e.metaKey)}
          onKeyDown={(e) => props.onKeyDown(e, props.index)}
        >
          {row.fail.length === 1 ? (
            <>
              <span className="text-secondary text-xs">{partOf(row.fail[0] ?? "").kind}</span>{" "}
              <span className="font-mono">{partOf(row.fail[0] ?? "").name}</span>
            </>
          ) : (
            <span className="text-xs">{row.fail.map((f) => partOf(f).name).join(" + ")}</span>
          )}
        </button>
        <span className={`num w-11 text-right ${row.cut ? "" : "text-secondary"}`}>{count(row.cut)}</span>
        <span className={`num w-15 text-right ${row.squeezed ? "text-warning" : "text-secondary"}`}>
          {count(row.squeezed)}
        </span>
        <span className="num w-15 text-right text-secondary">{count(row.moved)}</span>
      </div>
      {columns.map((c, i) =>
        props.byRegion ? (
          <RegionCell key={c.key} letters={row.grid.slice(c.from, c.to)} left={NAME + COUNTS + i * width} />
        ) : row.grid[c.from] === "-" ? null : (
          <span
            key={c.key}
            className={`absolute top-0.5 h-[21px] leading-[21px] text-center text-[13px] ${verdicts[row.grid[c.from] as Letter].style}`}
            style={{ left: NAME + COUNTS + i * width, width: width - 1 }}
            title={`${c.title}: ${verdicts[row.grid[c.from] as Letter].word}`}
          >
            {verdicts[row.grid[c.from] as Letter].mark}
          </span>
        ),
      )}
    </div>
  );
});

/** How many sites of a region are hit, by verdict, the worst first. */
function RegionCell({ letters, left }: { letters: string; left: number }) {
  const of = (l: Letter) => letters.split(l).length - 1;
  return (
    <span className="absolute top-0.5 h-[21px] leading-[21px] flex gap-1.5 text-xs" style={{ left }}>
      {(["c", "s", "m"] as const).map((l) =>
        of(l) > 0 ? (
          <span key={l} title={`${of(l)} of ${many(letters.length, "site")} ${verdicts[l].word}`}>
            <span className={`px-0.5 ${verdicts[l].style}`}>{verdicts[l].mark}</span> {count(of(l))}
          </span>
        ) : null,
      )}
    </span>
  );
}
