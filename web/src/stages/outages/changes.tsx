import { Link } from "react-router";
import type { ChangeSheet } from "../../api/client";
import { useOutageChanges } from "../../api/outages";
import { type Place, pageOf } from "../../api/place";
import { useCard, useEstate, useReleases } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { partText } from "../../parts/failing";
import { count } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { letterOf, verdicts } from "./words";

/** Changes compares what failures do in this draft and in a release or another draft. */
export function Changes({ at }: { at: Place }) {
  const head = useEstate(at).data;
  const card = useCard(at.estate).data;
  const releases = useReleases(at.estate).data ?? [];
  const [params, set] = useAddress();
  const against = params.get("against") ?? "";
  const only = params.get("site") ?? "";
  const changes = useOutageChanges(at, against);
  const list = changes.data ?? [];
  const sites = [...Map.groupBy(list, (c) => c.site)].toSorted(
    ([, a], [, b]) => worse(b) - worse(a) || b.length - a.length,
  );
  const harder = sites.filter(([, of]) => worse(of) > 0).length;
  const shown = only ? list.filter((c) => c.site === only) : list;
  const drafts = (card?.drafts ?? []).filter((d) => d.key !== at.draft && !d.discarded);
  const other = drafts.find((d) => d.key === against)?.name ?? (against || `release ${head?.base ?? 0}`);
  return (
    <div className="pb-10 max-w-5xl">
      <label className="text-xs text-secondary block mb-2">
        Compared with{" "}
        <select
          className="cell w-72 text-base-content"
          value={against}
          onChange={(e) => set({ against: e.target.value, site: "" })}
        >
          <option value="">
            {head?.base ? `release ${head.base}, on which this draft is based` : "nothing: no release yet"}
          </option>
          {releases
            .filter((r) => r.number !== head?.base)
            .map((r) => (
              <option key={r.number} value={`release-${r.number}`}>
                release {r.number}, {r.message.slice(0, 50)}
              </option>
            ))}
          {drafts.map((d) => (
            <option key={d.key} value={d.key}>
              draft {d.name}
            </option>
          ))}
        </select>
      </label>
      <Trouble error={changes.error} />
      {changes.isPending ? <Waiting what="both states" /> : null}
      {changes.data && head?.base === 0 && !against ? (
        <p className="text-secondary">
          Nothing is released yet, so there is nothing to compare with: every failure here is new.
        </p>
      ) : null}
      {changes.data && head && (head.base > 0 || against) ? (
        <p className="mb-2" role="status">
          Against {other}: some failure hits <strong>{count(harder)}</strong>{" "}
          {harder === 1 ? "site" : "sites"} harder and{" "}
          <strong>{count(sites.filter(([, of]) => worse(of) < of.length).length)}</strong> less hard; the
          others fare alike.
        </p>
      ) : null}
      {list.length > 0 ? (
        <div className="grid grid-cols-[16rem_1fr] gap-8">
          <ul aria-label="Sites that fare differently" className="text-[13px]">
            <li>
              <SiteLine name="all of them" of={list} chosen={!only} onChoose={() => set({ site: "" })} />
            </li>
            {sites.map(([site, of]) => (
              <li key={site} data-look={site}>
                <SiteLine name={site} of={of} chosen={only === site} onChoose={() => set({ site })} />
              </li>
            ))}
          </ul>
          <div>
            <table className="ruled text-[13px]">
              <thead>
                <tr>
                  <th>What fails</th>
                  <th>Site</th>
                  <th>There</th>
                  <th>In this draft</th>
                  <th>So it is</th>
                </tr>
              </thead>
              <tbody>
                {shown.slice(0, 400).map((c) => (
                  <tr key={`${c.fail} ${c.site}`}>
                    <td>
                      <Link
                        className="link link-hover"
                        to={`${pageOf(at)}/outages?${new URLSearchParams({ fail: c.fail, at: c.site })}`}
                      >
                        {partText(c.fail)}
                      </Link>
                    </td>
                    <td className="font-mono">{c.site}</td>
                    <td>
                      {verdicts[letterOf(c.was)].mark} {c.was}
                    </td>
                    <td>
                      {verdicts[letterOf(c.now)].mark} {c.now}
                    </td>
                    <td className={c.better ? "" : "text-error font-semibold"}>
                      {c.better ? "✓ better" : "■ worse"}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {shown.length > 400 ? (
              <p className="text-secondary">and {count(shown.length - 400)} more</p>
            ) : null}
          </div>
        </div>
      ) : null}
    </div>
  );
}

const worse = (list: ChangeSheet[]) => list.filter((c) => !c.better).length;

function SiteLine(props: { name: string; of: ChangeSheet[]; chosen: boolean; onChoose: () => void }) {
  const bad = worse(props.of);
  const good = props.of.length - bad;
  return (
    <button
      type="button"
      aria-pressed={props.chosen}
      className={`w-full flex gap-2 px-2 py-0.5 text-left hover:bg-base-200 ${props.chosen ? "bg-base-200 font-semibold" : ""}`}
      onClick={props.onChoose}
    >
      <span className="font-mono grow truncate">{props.name}</span>
      {bad > 0 ? <span className="text-error whitespace-nowrap">■ {bad} worse</span> : null}
      {good > 0 ? <span className="text-secondary whitespace-nowrap">✓ {good} better</span> : null}
    </button>
  );
}
