import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import type { LiveCell, LiveLoom as LiveLoomOf, LiveRow } from "../../api/client";
import { useLiveLoom } from "../../api/gateways";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useAddress } from "../../parts/address";
import { count, many } from "../../parts/number";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { LiveThreads, Thread, threadWords } from "./live-threads";

const HEIGHT = 32;
const NAME = 220;
const COLUMN = 104;

/**
 * LiveLoom shows how each pair of an overlay is joined at present. The engineer wants to see which
 * pairs lean on a standby or have nothing left; they compare rows and columns: a row is a site's
 * trouble, a column a hub's, and what is scattered a carrier's.
 */
export default function LiveLoom() {
  const at = usePlace();
  const [params, set] = useAddress();
  const region = params.get("region") ?? "";
  const loom = useLiveLoom(at.estate, params.get("overlay") ?? "", region);
  const [onlyBad, setOnlyBad] = useState(false);
  const rows = useMemo(
    () => (loom.data?.rows ?? []).filter((r) => !onlyBad || r.cells.some((c) => c.pairs > c.whole)),
    [loom.data, onlyBad],
  );
  return (
    <div className="h-full flex flex-col">
      <StageHead
        title="Live loom"
        actions={
          <>
            <label className="flex gap-1.5 items-center">
              <input type="checkbox" checked={onlyBad} onChange={(e) => setOnlyBad(e.target.checked)} />
              only what is not as designed
            </label>
            <select
              className="cell w-auto"
              aria-label="Overlay"
              value={loom.data?.overlay ?? ""}
              onChange={(e) => set({ overlay: e.target.value, region: "" })}
            >
              {(loom.data?.overlays ?? []).map((o) => (
                <option key={o}>{o}</option>
              ))}
            </select>
          </>
        }
      >
        <Link className="link" to={`${pageOf(at)}/watch`}>
          Watch
        </Link>{" "}
        · Which tunnel carries each pair, which stand by, which are dead?
      </StageHead>
      <div className="px-6">
        <Trouble error={loom.error} />
        {loom.isPending ? <Waiting what="the loom" /> : null}
        {loom.data ? <Sum loom={loom.data} /> : null}
      </div>
      {loom.data && loom.data.overlay !== "" ? (
        <Cloth
          at={at}
          loom={loom.data}
          rows={rows}
          region={region}
          onUnfold={(r) => set({ region: r === region ? "" : r })}
        />
      ) : null}
    </div>
  );
}

/** All of it in one line, and what the signs are. */
function Sum({ loom }: { loom: LiveLoomOf }) {
  if (loom.overlay === "") {
    return <p className="text-secondary">Nothing is released yet, so nothing is joined.</p>;
  }
  const { pairs, dead, moved, thin, unseen } = loom.sum;
  return (
    <div className="flex flex-wrap gap-x-6 gap-y-1 items-center mb-2">
      <p role="status">
        {dead + moved + thin + unseen === 0 ? (
          <>✓ Every tunnel of {many(pairs, "pair")} lives.</>
        ) : (
          <>
            {dead > 0 ? (
              <strong className="text-error">
                ■ {many(dead, "pair has", "pairs have")} no tunnel left.{" "}
              </strong>
            ) : null}
            {moved > 0 ? (
              <strong>▲ {many(moved, "pair goes", "pairs go")} by another than the first choice. </strong>
            ) : null}
            {thin > 0 ? `△ ${many(thin, "pair lacks", "pairs lack")} a standby. ` : ""}
            {unseen > 0 ? `○ Of ${many(unseen, "pair")} nothing is known.` : ""}
          </>
        )}
      </p>
      <p className="text-xs text-secondary flex gap-3 ml-auto" aria-hidden="true">
        {(["carries", "stands-by", "beyond", "dead", "unseen"] as const).map((t) => (
          <span key={t} className="flex items-center gap-1">
            <svg width="26" height="10" aria-hidden="true">
              <Thread is={t} y={5} width={26} />
            </svg>
            {threadWords[t]}
          </span>
        ))}
      </p>
    </div>
  );
}

function Cloth(props: {
  at: Place;
  loom: LiveLoomOf;
  rows: LiveRow[];
  region: string;
  onUnfold: (region: string) => void;
}) {
  const { at, loom, rows } = props;
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => HEIGHT,
    overscan: 10,
  });
  return (
    <div
      ref={box}
      className="overflow-auto grow mx-6 border-t-[1.5px] border-base-content"
      data-testid="live-loom"
    >
      <div
        style={{
          minWidth: NAME + loom.columns.length * COLUMN,
          height: virtual.getTotalSize() + HEIGHT,
          position: "relative",
        }}
      >
        <div className="sticky top-0 z-10 bg-base-100 border-b border-base-content h-8">
          {loom.columns.map((c, i) => (
            <span
              key={c.site ?? `region ${c.region}`}
              className={`absolute top-1.5 text-xs font-semibold truncate ${c.site ? "font-mono" : "font-serif"}`}
              style={{ left: NAME + i * COLUMN, width: COLUMN - 8 }}
              title={c.site ?? c.region}
            >
              {c.site ?? (c.region || "No region")}
            </span>
          ))}
        </div>
        {rows.length === 0 ? <p className="py-3">✓ All of it is as designed.</p> : null}
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index] as LiveRow;
          return (
            <div
              key={row.site ?? `region ${row.region}`}
              data-row={row.site ?? row.region}
              className={`absolute left-0 right-0 top-8 h-8 border-b border-base-300 ${row.site ? "bg-base-100" : "bg-base-200"}`}
              style={{ transform: `translateY(${item.start}px)` }}
            >
              <RowName at={at} row={row} open={row.region === props.region} onUnfold={props.onUnfold} />
              {row.cells.map((c) => (
                <Cell key={c.column} at={at} loom={loom} row={row} cell={c} onUnfold={props.onUnfold} />
              ))}
            </div>
          );
        })}
      </div>
      {loom.left > 0 ? (
        <p className="py-2 text-secondary">
          {many(loom.left, "more site")} of {props.region} are not listed.
        </p>
      ) : null}
    </div>
  );
}

function RowName(props: { at: Place; row: LiveRow; open: boolean; onUnfold: (region: string) => void }) {
  const { row } = props;
  const style = "sticky left-0 z-[1] w-[214px] h-full flex items-center gap-2 bg-inherit pr-2";
  if (!row.site) {
    return (
      <span className={style}>
        <button
          type="button"
          className="font-serif font-semibold hover:underline truncate"
          aria-expanded={props.open}
          onClick={() => props.onUnfold(row.region)}
        >
          <span aria-hidden="true">{props.open ? "▾ " : "▸ "}</span>
          {row.region || "No region"}
        </button>
        <span className="text-xs text-secondary ml-auto whitespace-nowrap">{many(row.sites, "site")}</span>
      </span>
    );
  }
  return (
    <span className={style} title={row.name || row.site}>
      <Link className="truncate hover:underline" to={`${pageOf(props.at)}/watch/${row.site}`}>
        {row.name || row.site}
      </Link>
    </span>
  );
}

function Cell(props: {
  at: Place;
  loom: LiveLoomOf;
  row: LiveRow;
  cell: LiveCell;
  onUnfold: (region: string) => void;
}) {
  const { row, cell } = props;
  const column = props.loom.columns[cell.column];
  const said = `${row.site ?? row.region} and ${column?.site ?? column?.region}: ${saidOf(cell)}`;
  const place = { left: NAME + cell.column * COLUMN, width: COLUMN - 8 };
  const look = `absolute top-0.5 h-7 flex items-center gap-1.5 text-xs hover:bg-base-300/60 ${cell.dead > 0 ? "text-error font-semibold" : cell.moved > 0 ? "text-warning" : ""}`;
  const shown = (
    <>
      <span className="sr-only">{said}</span>
      <span aria-hidden="true" className="flex items-center gap-1.5">
        {cell.threads ? <LiveThreads threads={cell.threads} /> : <span>{countText(cell)}</span>}
      </span>
    </>
  );
  if (row.site && column?.site) {
    return (
      <Link
        className={look}
        style={place}
        title={said}
        to={`${pageOf(props.at)}/watch/-/pair?${new URLSearchParams({ a: row.site, b: column.site })}`}
      >
        {shown}
      </Link>
    );
  }
  return (
    <button
      type="button"
      className={look}
      style={place}
      title={said}
      onClick={() => props.onUnfold(row.region)}
    >
      {shown}
    </button>
  );
}

/** What is wrong of some pairs, or how many there are. */
function countText(c: LiveCell): string {
  const parts = [
    c.dead > 0 ? `■${count(c.dead)}` : "",
    c.moved > 0 ? `▲${count(c.moved)}` : "",
    c.thin > 0 ? `△${count(c.thin)}` : "",
    c.unseen > 0 ? `○${count(c.unseen)}` : "",
  ].filter(Boolean);
  return parts.length > 0 ? `${parts.join(" ")} of ${count(c.pairs)}` : `✓ ${count(c.pairs)}`;
}

function saidOf(c: LiveCell): string {
  if (c.threads) {
    return c.threads.map((t, i) => `choice ${i + 1} ${threadWords[t]}`).join(", ");
  }
  return [
    many(c.pairs, "pair"),
    c.dead > 0 ? `${c.dead} with no tunnel left` : "",
    c.moved > 0 ? `${c.moved} by another than the first choice` : "",
    c.thin > 0 ? `${c.thin} without a standby that they should have` : "",
    c.unseen > 0 ? `${c.unseen} of which nothing is known` : "",
  ]
    .filter(Boolean)
    .join(", ");
}
