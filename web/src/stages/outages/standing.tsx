import { Link } from "react-router";
import { useStanding } from "../../api/outages";
import { type Place, pageOf } from "../../api/place";
import { Idle } from "../../parts/idle";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { short } from "./words";

/** Standing is how available each site is, what its links share, what would help. */
export function Standing({ at }: { at: Place }) {
  const standing = useStanding(at);
  const s = standing.data;
  const page = pageOf(at);
  return (
    <>
      <Trouble error={standing.error} />
      {standing.isPending ? <Waiting what="the availability of all sites" /> : null}
      {s ? <Idle sites={s.idle} /> : null}
      {s ? (
        <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1.1fr)] gap-8 pb-10">
          <section>
            <h2 className="text-lg">Sites, the least available first</h2>
            <p className="text-xs text-secondary">
              From the figures of a site's links, those of its hubs and what they share; links without a
              figure count as always there.
            </p>
            <table className="ruled text-[13px]">
              <thead>
                <tr>
                  <th>Site</th>
                  <th className="num">Availability, %</th>
                  <th className="num">Downtime, min a year</th>
                  <th className="num">Switching, min a year</th>
                </tr>
              </thead>
              <tbody>
                {s.sites.slice(0, 200).map((x) => (
                  <tr key={x.site} data-look={x.site}>
                    <td>
                      <Link className="link link-hover font-mono" to={`${page}/survey?site=${x.site}`}>
                        {x.site}
                      </Link>
                      {x.unknown.length > 0 ? (
                        <span className="text-xs text-secondary"> no figure for {x.unknown.join(", ")}</span>
                      ) : null}
                      {x.own_only ? (
                        <span className="text-xs text-secondary"> its own links only</span>
                      ) : null}
                    </td>
                    <td className="num">{x.percent.toFixed(4)}</td>
                    <td className="num">{short(x.minutes)}</td>
                    <td className="num">{short(x.switch_minutes)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {s.sites.length > 200 ? (
              <p className="text-secondary">and {s.sites.length - 200} more, better ones</p>
            ) : null}
          </section>
          <section>
            <h2 className="text-lg">What primary and backup share</h2>
            {s.fates.length === 0 ? (
              <p className="text-secondary">No site has two links with a common fate.</p>
            ) : null}
            <ul className="text-[13px] mb-5">
              {s.fates.map((f) => (
                <li key={`${f.site} ${f.group}`} className="border-b border-base-300 py-1" data-look={f.site}>
                  {f.all ? <strong className="text-error">✕ </strong> : null}
                  <Link
                    className="link link-hover font-mono"
                    to={`${page}/survey?${new URLSearchParams({ site: f.site, link: f.links.at(-1) ?? "" })}`}
                  >
                    {f.site}
                  </Link>
                  : {f.links.join(" and ")} {f.all ? "are all its links and" : ""} share{" "}
                  <Link className="link font-mono" to={`${page}/outages?fail=fate:${f.group}`}>
                    {f.group}
                  </Link>
                  {f.other.length > 0 ? `, as do ${f.other.join(", ")}` : ""}
                </li>
              ))}
            </ul>
            <h2 className="text-lg">What would gain most</h2>
            {s.suggestions.length === 0 ? (
              <p className="text-secondary">Nothing gains a minute a year.</p>
            ) : null}
            <ol className="text-[13px]">
              {s.suggestions.map((x) => (
                <li key={x.text} className="border-b border-base-300 py-1 flex gap-3">
                  <span className="num w-24 shrink-0 text-right">
                    <strong>{short(x.now - x.then)}</strong> min/year
                  </span>
                  <span>
                    {x.text}.{" "}
                    <Link
                      className="link"
                      to={`${page}/survey?${new URLSearchParams({ site: x.site, ...(x.link ? { link: x.link } : {}) })}`}
                    >
                      Edit in Survey
                    </Link>
                  </span>
                </li>
              ))}
            </ol>
          </section>
        </div>
      ) : null}
    </>
  );
}
