import type { LinkChoice, LinkPattern } from "../../api/client";
import { useLimitLinks, useRankLinks } from "../../api/outages";
import type { Place } from "../../api/place";
import { useMayEdit } from "../../api/queries";
import { Settled } from "../../parts/settled";
import { Trouble } from "../../parts/trouble";
import { moved, Step } from "./step";

/** The links of an order, those that share the load in one group. */
function groupsOf(order: LinkChoice[]): LinkChoice[][] {
  const groups: LinkChoice[][] = [];
  for (const c of order) {
    if (c.shares) {
      groups.at(-1)?.push(c);
    } else {
      groups.push([c]);
    }
  }
  return groups;
}

/** The groups as the server takes them. */
const flat = (groups: LinkChoice[][]): LinkChoice[] =>
  groups.flatMap((g) =>
    g.map((c, i) => ({ key: c.key, shares: i > 0, ...(g.length > 1 ? { weight: c.weight || 1 } : {}) })),
  );

/** One link a step earlier or later: past its neighbours, or out of those it shares with. */
function stepped(groups: LinkChoice[][], at: number, choice: LinkChoice, by: -1 | 1): LinkChoice[][] {
  const group = groups[at] as LinkChoice[];
  if (group.length === 1) {
    return moved(groups, at, by);
  }
  const out = [...groups];
  const rest = group.filter((c) => c !== choice);
  out.splice(at, 1, ...(by < 0 ? [[choice], rest] : [rest, [choice]]));
  return out;
}

/** A link joins those above it, or leaves those it shares with. */
function joined(groups: LinkChoice[][], at: number, choice: LinkChoice): LinkChoice[][] {
  if ((groups[at] as LinkChoice[])[0] !== choice) {
    return stepped(groups, at, choice, 1);
  }
  const out = [...groups];
  out.splice(at - 1, 2, [...(groups[at - 1] as LinkChoice[]), ...(groups[at] as LinkChoice[])]);
  return out;
}

/** Order lists the orders of links that sites have. */
export function Order({ at, patterns, zones }: { at: Place; patterns: LinkPattern[]; zones: string[] }) {
  const mayEdit = useMayEdit(at);
  const rank = useRankLinks(at);
  const limit = useLimitLinks(at);
  return (
    <section aria-label="Order of links">
      <h2 className="text-lg">Which link first</h2>
      <p className="text-xs text-secondary">
        Sites with the same links in the same order, together. Tunnels follow at both ends. Links that share
        the load take each flow whole, there and back.
      </p>
      <Trouble error={rank.error ?? limit.error} />
      {patterns.map((p) => (
        <Pattern
          key={p.sites.join(" ")}
          pattern={p}
          zones={zones}
          mayRank={mayEdit && !rank.isPending}
          mayLimit={mayEdit && !limit.isPending}
          onRank={(groups) => rank.mutate({ sites: p.sites, first: flat(groups) })}
          onLimit={(link, zones) => limit.mutate({ sites: p.sites, link, zones })}
        />
      ))}
    </section>
  );
}

/** Pattern is the order of links of all sites that have the same. */
function Pattern(props: {
  pattern: LinkPattern;
  zones: string[];
  mayRank: boolean;
  mayLimit: boolean;
  onRank: (groups: LinkChoice[][]) => void;
  onLimit: (link: string, zones: string[]) => void;
}) {
  const { pattern: p, zones, onRank: save } = props;
  const groups = groupsOf(p.order);
  return (
    <div className="border-b border-base-300 py-2" data-pattern={p.order.map((c) => c.key).join(" ")}>
      <p className="text-[13px]" title={p.sites.join(", ")}>
        <strong>{p.sites.length === 1 ? p.sites[0] : `${p.sites.length} sites`}</strong>{" "}
        <span className="text-secondary">
          {p.sites.length > 1 ? `${p.sites.slice(0, 4).join(", ")}${p.sites.length > 4 ? " …" : ""}` : ""}
        </span>
      </p>
      <ol>
        {groups.map((group, place) =>
          group.map((c, i) => (
            <li key={c.key} className="flex gap-2 items-center text-[13px] py-0.5">
              <span className="num w-5 shrink-0 text-right text-secondary">{i === 0 ? place + 1 : "="}</span>
              <span className="font-mono w-20 shrink-0 truncate" title={c.key}>
                {c.key}
              </span>
              <Step
                label={`${c.key} earlier`}
                up
                disabled={!props.mayRank || (place === 0 && group.length === 1)}
                onClick={() => save(stepped(groups, place, c, -1))}
              />
              <Step
                label={`${c.key} later`}
                disabled={!props.mayRank || (place === groups.length - 1 && group.length === 1)}
                onClick={() => save(stepped(groups, place, c, 1))}
              />
              {place > 0 || i > 0 ? (
                <button
                  type="button"
                  className={`btn btn-xs relative w-24 shrink-0 ${i > 0 ? "btn-active" : ""}`}
                  aria-pressed={i > 0}
                  data-share={c.key}
                  disabled={!props.mayRank}
                  onClick={() => save(joined(groups, place, c))}
                >
                  share with <span aria-hidden="true">↑</span>
                  <span className="sr-only">the link above, {c.key}</span>
                </button>
              ) : (
                <span className="w-24 shrink-0" />
              )}
              {group.length > 1 ? (
                <span className="text-xs text-secondary whitespace-nowrap">
                  <Settled
                    className="cell w-10 text-base-content num"
                    inputMode="numeric"
                    aria-label={`Parts of the flows for ${c.key}`}
                    disabled={!props.mayRank}
                    value={String(c.weight || 1)}
                    onSettle={(text) =>
                      save(
                        groups.map((g) =>
                          g === group ? g.map((o) => (o === c ? { ...o, weight: Number(text) } : o)) : g,
                        ),
                      )
                    }
                  />{" "}
                  of {group.reduce((sum, o) => sum + (o.weight || 1), 0)}
                </span>
              ) : null}
              <ZonesOn
                link={c.key}
                only={p.zones[p.order.findIndex((o) => o.key === c.key)] ?? []}
                zones={zones}
                disabled={!props.mayLimit}
                onChoose={(only) => props.onLimit(c.key, only)}
              />
            </li>
          )),
        )}
      </ol>
    </div>
  );
}

/** ZonesOn chooses for which zones a link is. */
function ZonesOn(props: {
  link: string;
  only: string[];
  zones: string[];
  disabled: boolean;
  onChoose: (zones: string[]) => void;
}) {
  const only = props.only.join(" ");
  return (
    <select
      className="cell w-34 ml-auto shrink-0"
      aria-label={`Zones on ${props.link}`}
      disabled={props.disabled}
      value={only}
      onChange={(e) => props.onChoose(e.target.value.split(" ").filter(Boolean))}
    >
      <option value="">for all zones</option>
      {props.zones.map((z) => (
        <option key={z} value={z}>
          for {z} only
        </option>
      ))}
      {only && !props.zones.includes(only) ? (
        <option value={only}>for {props.only.join(", ")} only</option>
      ) : null}
    </select>
  );
}
