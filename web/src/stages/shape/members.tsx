import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import type { LedgerSite, Overlay, ShapedOverlay } from "../../api/client";
import { pageOf, usePlace } from "../../api/place";
import { Editable } from "../../parts/editable";
import { many } from "../../parts/number";
import { callable } from "./hub-order";

type Spoke = NonNullable<Overlay["spokes"]>[number];

/** Members lists all sites with their role in the overlay and, for spokes, their hub order. */
export function Members(props: {
  overlay: ShapedOverlay;
  sites: LedgerSite[];
  onChange: (part: Partial<Overlay>) => void;
}) {
  const { overlay } = props;
  const [query, setQuery] = useState("");
  const hubs = overlay.hubs ?? [];
  const part = overlay.shape === "full-mesh" ? ("member" as const) : ("spoke" as const);
  const spokes = overlay.spokes ?? [];
  const spokeOf = useMemo(() => new Map((overlay.spokes ?? []).map((s) => [s.site, s])), [overlay.spokes]);
  const member = useMemo(() => new Map(overlay.members.map((m) => [m.site, m])), [overlay.members]);
  const rows = props.sites.filter((s) =>
    `${s.key} ${s.name} ${s.region}`.toLowerCase().includes(query.toLowerCase()),
  );
  const outside = props.sites.filter((s) => !hubs.includes(s.key) && !spokeOf.has(s.key));
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => 33,
    overscan: 16,
  });
  return (
    <section aria-label="Members" className="flex flex-col min-h-0 h-full">
      <div className="flex gap-3 items-center mb-1">
        <h2 className="text-lg">Members</h2>
        <input
          className="cell w-44"
          aria-label="Filter the members"
          placeholder="Filter"
          value={query}
          onChange={(e) => setQuery(e.target.value)}
        />
        <Editable>
          <button
            type="button"
            className={`btn btn-xs ml-auto ${outside.length === 0 ? "invisible" : ""}`}
            onClick={() => props.onChange({ spokes: [...spokes, ...outside.map((s) => ({ site: s.key }))] })}
          >
            Make the other {outside.length === 1 ? `site a ${part}` : `${outside.length} sites ${part}s`}
          </button>
        </Editable>
      </div>
      <div className="grid grid-cols-[minmax(0,1.4fr)_90px_minmax(0,1.6fr)_60px] gap-3 text-xs font-semibold text-secondary border-b-[1.5px] border-base-content pb-1 shrink-0 overflow-hidden [scrollbar-gutter:stable]">
        <span>Site</span>
        <span>Role</span>
        <span>{part === "spoke" ? "First hub" : ""}</span>
        <span className="text-right">Tunnels</span>
      </div>
      <div ref={box} className="overflow-auto grow min-h-40 [scrollbar-gutter:stable]">
        <Editable>
          <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
            {virtual.getVirtualItems().map((item) => {
              const s = rows[item.index] as LedgerSite;
              return (
                <div
                  key={s.key}
                  className="absolute left-0 right-0"
                  style={{ transform: `translateY(${item.start}px)` }}
                >
                  <MemberRow
                    site={s}
                    hubs={hubs}
                    part={part}
                    spoke={spokeOf.get(s.key)}
                    member={member.get(s.key)}
                    onSpoke={(spoke) =>
                      props.onChange({
                        spokes: !spoke
                          ? spokes.filter((x) => x.site !== s.key)
                          : spokeOf.has(s.key)
                            ? spokes.map((x) => (x.site === s.key ? spoke : x))
                            : [...spokes, spoke],
                      })
                    }
                  />
                </div>
              );
            })}
          </div>
        </Editable>
      </div>
    </section>
  );
}

/** MemberRow is one site: whether it takes part, and which hub it uses first. */
function MemberRow(props: {
  site: LedgerSite;
  hubs: string[];
  part: "member" | "spoke";
  spoke?: Spoke;
  member?: ShapedOverlay["members"][number];
  onSpoke: (spoke?: Spoke) => void;
}) {
  const { site: s, hubs, part, spoke } = props;
  const at = usePlace();
  const hub = hubs.includes(s.key);
  const own = spoke?.hubs ?? [];
  const apart = props.member?.apart ?? 0;
  return (
    <div className="grid grid-cols-[minmax(0,1.4fr)_90px_minmax(0,1.6fr)_60px] gap-3 items-center border-b border-base-300 h-[33px]">
      <span className="truncate" title={s.name}>
        {s.name}
      </span>
      {hub ? (
        <span>hub</span>
      ) : (
        <label className="flex gap-1.5 items-center">
          <input
            type="checkbox"
            className="accent-primary"
            aria-label={`${s.name} is a ${part}`}
            checked={spoke !== undefined}
            onChange={() => props.onSpoke(spoke ? undefined : { site: s.key })}
          />
          {part}
        </label>
      )}
      {part === "spoke" && spoke && hubs.length > 1 ? (
        <select
          className="cell text-[13px]"
          aria-label={`First hub of ${s.name}`}
          value={own[0] ?? ""}
          onChange={(e) => {
            const first = e.target.value;
            props.onSpoke({
              site: s.key,
              hubs: first ? [first, ...hubs.filter((h) => h !== first)] : undefined,
            });
          }}
        >
          <option value="">as the overlay: {hubs[0]}</option>
          {hubs.map((h) => (
            <option key={h} value={h}>
              {own[0] === h && own.length > 1 ? own.join(", then ") : `${h} first`}
            </option>
          ))}
        </select>
      ) : (
        <span className="text-secondary text-[13px] truncate">
          {hub && !callable(s) ? "▲ not reachable" : ""}
        </span>
      )}
      <Link
        className="link link-hover text-right"
        to={`${pageOf(at)}/paths/${s.key}`}
        title={apart ? `${many(apart, "pair")} cannot be joined` : undefined}
      >
        {apart ? <span className="text-warning">▲ </span> : null}
        {props.member?.tunnels ?? 0}
      </Link>
    </div>
  );
}
