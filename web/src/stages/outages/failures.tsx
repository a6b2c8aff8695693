import { useState } from "react";
import type { PartKind } from "../../api/client";
import { type Degree, useOutages } from "../../api/outages";
import type { Place } from "../../api/place";
import { useAddress } from "../../parts/address";
import { degrees, kinds } from "../../parts/failing";
import { Idle } from "../../parts/idle";
import { count } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { Detail } from "./detail";
import { Grid } from "./grid";
import { short, verdicts } from "./words";

const FEW = 200;

/**
 * Failures ranks the single failures by harm, against all sites. One is chosen
 * to see what takes over; with Ctrl further ones fail together with it.
 */
export function Failures({ at }: { at: Place }) {
  const [params, set] = useAddress();
  const [limit, setLimit] = useState(FEW);
  const chosen = params.getAll("fail");
  const kind = params.get("kind") ?? "";
  const degree = (params.get("degree") ?? "") as Degree;
  const together = params.get("together") === "yes";
  const outages = useOutages(at, kind ? [kind as PartKind] : [], degree, limit, together);
  const o = outages.data;
  const choose = (parts: string[], more: boolean) => {
    const kept = chosen.filter((n) => !parts.includes(n));
    set({ fail: more ? (kept.length < chosen.length ? kept : [...chosen, ...parts]) : parts });
  };
  return (
    <div
      className={`grid gap-5 h-full min-h-0 ${chosen.length > 0 ? "grid-cols-[minmax(0,1fr)_minmax(360px,430px)]" : ""}`}
    >
      <div className="flex flex-col min-h-0 min-w-0">
        <Idle sites={outages.data?.idle ?? []} />
        <div className="flex flex-wrap gap-x-4 gap-y-1 items-center mb-1 text-[13px]">
          <select
            className="cell w-40 shrink-0"
            aria-label="What fails"
            value={kind}
            onChange={(e) => set({ kind: e.target.value })}
          >
            <option value="">whatever can fail</option>
            {Object.entries(kinds).map(([k, name]) => (
              <option key={k} value={k}>
                {name}s
              </option>
            ))}
          </select>
          <select
            className="cell w-44 shrink-0"
            aria-label="How badly"
            value={degree}
            onChange={(e) => set({ degree: e.target.value })}
          >
            <option value="">dead, slow or lossy</option>
            {Object.entries(degrees).map(([d, name]) => (
              <option key={d} value={d}>
                {name}
              </option>
            ))}
          </select>
          <label className="flex gap-1.5 items-center whitespace-nowrap">
            <input
              type="checkbox"
              checked={together}
              onChange={(e) => set({ together: e.target.checked ? "yes" : "" })}
            />
            every two together
          </label>
          {o && together ? <span>{count(o.total)} are worse than both alone added up</span> : null}
          {o && !together ? (
            <span>
              <strong>{count(o.points)}</strong> single points of failure; {count(o.total)} failures,{" "}
              {count(o.harmless)} touch nobody
            </span>
          ) : null}
          <Legend />
        </div>
        <Trouble error={outages.error} />
        {outages.isPending ? <Waiting what="all single failures" /> : null}
        {o && o.crowded.length > 0 ? (
          <p className="text-warning text-[13px]">
            ▲ Over capacity with nothing down:{" "}
            {o.crowded
              .slice(0, 4)
              .map(
                (c) =>
                  `${c.site}${c.link ? `/${c.link}` : ""} ${short(c.after_mbps)} of ${short(c.capacity_mbps)} Mbit/s`,
              )
              .join(", ")}
            {o.crowded.length > 4 ? ` and ${o.crowded.length - 4} more` : ""}
          </p>
        ) : null}
        {o && o.rows.length === 0 ? (
          <p className="py-4 text-secondary">
            {together
              ? "No two together are worse than both alone added up."
              : degree === "slow" || degree === "lossy"
                ? `Nothing is ${degree} here: no overlay has limits that notice it. Set them in Order and probes.`
                : kind
                  ? "Nothing of this kind can fail here."
                  : "Nothing can fail here yet: no site has a tunnel. Shape an overlay first."}
          </p>
        ) : null}
        {o && o.rows.length > 0 ? <Grid outages={o} chosen={chosen} onChoose={choose} /> : null}
        {o && o.rows.length < o.total ? (
          <p className="text-xs text-secondary py-1">
            The worst {count(o.rows.length)} of {count(o.total)}.{" "}
            {limit < 2000 ? (
              <button type="button" className="link" onClick={() => setLimit(2000)}>
                Show more
              </button>
            ) : null}
          </p>
        ) : null}
      </div>
      {chosen.length > 0 ? (
        <Detail at={at} fail={chosen} onChoose={choose} onClose={() => set({ fail: [] })} />
      ) : null}
    </div>
  );
}

function Legend() {
  return (
    <span className="ml-auto flex gap-3 text-xs text-secondary">
      {(["m", "s", "c"] as const).map((l) => (
        <span key={l}>
          <span aria-hidden="true" className={`inline-block w-4 text-center mr-1 ${verdicts[l].style}`}>
            {verdicts[l].mark}
          </span>
          {verdicts[l].word}
        </span>
      ))}
    </span>
  );
}
