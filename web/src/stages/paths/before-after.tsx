import { useState } from "react";
import { useBeforeAfter } from "../../api/paths";
import type { Place } from "../../api/place";
import { many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** BeforeAfter lays a site's routes beside those of the release the draft is based on. */
export function BeforeAfter({ at, site }: { at: Place; site: string }) {
  const compared = useBeforeAfter(at, site);
  const [all, setAll] = useState(false);
  const c = compared.data;
  if (!c) {
    return (
      <>
        <Trouble error={compared.error} />
        {compared.isPending ? <Waiting what="the comparison" /> : null}
      </>
    );
  }
  const shown = c.lines.filter((l) => all || l.moved);
  return (
    <>
      <p className="py-2 flex gap-4">
        <strong>
          {c.moved === 0
            ? "No route moves here."
            : `${c.moved} of ${many(c.lines.length, "route")} ${c.moved === 1 ? "moves" : "move"}.`}
        </strong>
        <label className="flex gap-1.5">
          <input type="checkbox" checked={all} onChange={(e) => setAll(e.target.checked)} />
          show those that stay too
        </label>
      </p>
      {shown.length > 0 ? (
        <table className="ruled text-[13px]">
          <thead>
            <tr>
              <th>Prefix</th>
              <th>of</th>
              <th>Before ({c.base.replace("-", " ")})</th>
              <th>Now</th>
              <th>won by</th>
              <th>Standing by</th>
            </tr>
          </thead>
          <tbody>
            {shown.slice(0, 500).map((l) => (
              <tr key={l.prefix} className={l.moved ? "bg-base-200" : ""}>
                <td className="font-mono">
                  {l.moved ? <span title="moves">▸ </span> : null}
                  {l.prefix}
                </td>
                <td className="font-mono">{l.to}</td>
                <td className="font-mono">{l.was || "no route"}</td>
                <td className="font-mono">{l.is || "no route"}</td>
                <td>{l.why}</td>
                <td className="font-mono text-xs text-secondary" title={l.standby.join("\n")}>
                  {l.standby.slice(0, 2).join(", ")}
                  {l.standby.length > 2 ? ` and ${l.standby.length - 2} more` : ""}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      {shown.length > 500 ? <p className="text-secondary">The first 500 of {shown.length}.</p> : null}
    </>
  );
}
