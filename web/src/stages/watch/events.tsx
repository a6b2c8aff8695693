import { Link } from "react-router";
import type { WatchEvent } from "../../api/client";
import { isFull, useEvents } from "../../api/events";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useEstate } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { many } from "../../parts/number";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";
import { Listeners } from "./listeners";
import { Where } from "./where";
import { Windows } from "./windows";

const kinds = ["", "began", "ended", "joined"] as const;
const kindNames = { "": "all", began: "what began", ended: "what ended", joined: "what was part of more" };

/**
 * Events lists what was not as designed, one line for one cause. The engineer wants to know what
 * happened while they were away, how long it lasted and whether it cut anybody.
 */
export default function Events() {
  const at = usePlace();
  const [params, set] = useAddress();
  const kind = kinds.find((k) => k === params.get("kind")) ?? "";
  const site = params.get("site") ?? "";
  const before = Number(params.get("before")) || 0;
  const events = useEvents(at.estate, { kind, site, before });
  const role = useEstate(at).data?.role;
  const list = events.data ?? [];
  return (
    <div className="pb-10">
      <StageHead
        title="Events"
        actions={
          <>
            <select
              className="cell w-auto"
              aria-label="Which events"
              value={kind}
              onChange={(e) => set({ kind: e.target.value, before: "" })}
            >
              {kinds.map((k) => (
                <option key={k} value={k}>
                  {kindNames[k]}
                </option>
              ))}
            </select>
            <input
              className="cell w-40"
              aria-label="Of one site"
              placeholder="Of one site"
              value={site}
              onChange={(e) => set({ site: e.target.value.trim(), before: "" })}
            />
            <a className="btn btn-sm" href={`/api/estates/${at.estate}/events.csv`} download>
              Take away as CSV
            </a>
          </>
        }
      >
        What was not as designed, one line for one cause: since when, how long, and did it cut anybody?
      </StageHead>
      <div className="px-6 max-w-6xl">
        <Trouble error={events.error} />
        {events.isPending ? <Waiting what="the events" /> : null}
        {events.data && list.length === 0 ? (
          <p className="py-3 text-secondary">
            Nothing happened{kind || site || before ? " that matches" : " since gateways are watched"}.
          </p>
        ) : null}
        {list.length > 0 ? <Table at={at} list={list} /> : null}
        <p className="mt-2 flex gap-4">
          {before > 0 ? (
            <button type="button" className="link" onClick={() => set({ before: "" })}>
              The newest
            </button>
          ) : null}
          {isFull(list) ? (
            <button
              type="button"
              className="link"
              onClick={() => set({ before: String(list[list.length - 1]?.id ?? "") })}
            >
              Earlier
            </button>
          ) : null}
        </p>
        <Windows at={at} may={role === "operator" || role === "owner"} />
        {role === "operator" || role === "owner" ? <Listeners estate={at.estate} /> : null}
      </div>
    </div>
  );
}

function Table({ at, list }: { at: Place; list: WatchEvent[] }) {
  return (
    <table className="ruled" data-testid="events">
      <thead>
        <tr>
          <th>When</th>
          <th>What</th>
          <th>Cause</th>
          <th className="text-right">Lasted</th>
          <th className="text-right">Tunnels</th>
          <th className="text-right">Pairs cut</th>
          <th>Where</th>
        </tr>
      </thead>
      <tbody>
        {list.map((e) => (
          <tr key={e.id}>
            <td>
              <When at={e.at} />
            </td>
            <td className="whitespace-nowrap">
              {e.kind === "began" ? (
                <span className={e.cut > 0 ? "text-error" : "text-warning"}>
                  {e.cut > 0 ? "■" : "▲"} began
                </span>
              ) : e.kind === "ended" ? (
                "✓ over"
              ) : (
                <span className="text-secondary">○ part of more</span>
              )}
            </td>
            <td>
              {e.words.charAt(0).toUpperCase() + e.words.slice(1)}
              {e.sure === "sure" ? null : <span className="text-secondary">, {e.sure}</span>}
              {e.quiet ? <span className="text-secondary">; in a window, nobody was told</span> : null}
            </td>
            <td className="text-right whitespace-nowrap">
              {e.kind === "began" ? "" : lasted(e.lasted_s ?? 0)}
            </td>
            <td className="text-right">{e.tunnels || ""}</td>
            <td className="text-right">{e.cut || ""}</td>
            <td>
              <Where at={at} of={e} />
              {e.part ? (
                <Link
                  className="link ml-2"
                  to={`${pageOf(at)}/outages?${new URLSearchParams({ fail: e.part })}`}
                >
                  its outage
                </Link>
              ) : null}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A time in the two largest units that matter. */
function lasted(seconds: number): string {
  if (seconds < 120) {
    return many(seconds, "second");
  }
  return seconds < 7200 ? `${Math.round(seconds / 60)} min` : `${Math.round(seconds / 3600)} h`;
}
