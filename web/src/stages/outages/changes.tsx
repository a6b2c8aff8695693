import { Link } from "react-router";
import { useOutageChanges } from "../../api/outages";
import { type Place, pageOf } from "../../api/place";
import { useEstate } from "../../api/queries";
import { count } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { letterOf, partText, verdicts } from "./words";

/** Changes compares what failures do in this draft and in its release. */
export function Changes({ at }: { at: Place }) {
  const head = useEstate(at).data;
  const changes = useOutageChanges(at);
  const list = changes.data ?? [];
  const better = list.filter((c) => c.better).length;
  return (
    <div className="pb-10 max-w-4xl">
      <Trouble error={changes.error} />
      {changes.isPending ? <Waiting what="both states" /> : null}
      {head?.base === 0 ? (
        <p className="text-secondary">
          Nothing is released yet, so there is nothing to compare with: every failure here is new.
        </p>
      ) : null}
      {changes.data && head && head.base > 0 ? (
        <p className="mb-2" role="status">
          Against release {head.base}: <strong>{count(list.length - better)}</strong> sites are hit harder by
          a failure, <strong>{count(better)}</strong> less hard; all others alike.
        </p>
      ) : null}
      {list.length > 0 ? (
        <table className="ruled text-[13px]">
          <thead>
            <tr>
              <th>What fails</th>
              <th>Site</th>
              <th>In the release</th>
              <th>In this draft</th>
              <th>So it is</th>
            </tr>
          </thead>
          <tbody>
            {list.slice(0, 400).map((c) => (
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
      ) : null}
      {list.length > 400 ? <p className="text-secondary">and {count(list.length - 400)} more</p> : null}
    </div>
  );
}
