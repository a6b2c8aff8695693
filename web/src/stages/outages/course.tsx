import type { Moment } from "../../api/client";
import { useCourse } from "../../api/outages";
import type { Place } from "../../api/place";
import { useSites } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { partOf } from "../../parts/failing";
import { Trouble } from "../../parts/trouble";
import { short } from "./words";

/** Course tells a failure and its repair for the traffic of two sites. */
export function Course({ at, fail, sites }: { at: Place; fail: string[]; sites: string[] }) {
  const [params, set] = useAddress();
  const all = (useSites(at).data ?? []).map((s) => s.key);
  const a = params.get("a") || params.get("at") || sites[0] || "";
  const b = params.get("b") || all.find((s) => s !== a) || "";
  const course = useCourse(at, fail, a, b);
  const c = course.data;
  return (
    <>
      <h3 className="text-sm mt-3">Second by second</h3>
      <p className="flex gap-2 items-center text-[13px]">
        between
        <Pick label="One site" sites={all} value={a} onPick={(site) => set({ a: site })} />
        and
        <Pick label="Other site" sites={all} value={b} onPick={(site) => set({ b: site })} />
      </p>
      <Trouble error={course.error} />
      {c && c.moments.length === 0 ? (
        <p className="text-secondary">The failure does not move their traffic.</p>
      ) : null}
      {c && c.moments.length > 0 ? (
        <>
          {fail.some((f) => partOf(f).degree === "dead") ? <Picture moments={c.moments} /> : null}
          <ol className="text-[13px]">
            {c.moments.map((m) => (
              <li
                key={`${m.repaired} ${m.after} ${m.text}`}
                className="flex gap-2 border-b border-base-300 py-0.5"
              >
                <span className="num w-20 shrink-0 text-right text-xs pt-0.5 whitespace-nowrap">
                  {m.repaired ? "repair + " : ""}
                  {m.after.toFixed(1)} s
                </span>
                <span>{m.text}</span>
              </li>
            ))}
          </ol>
        </>
      ) : null}
      {c && c.percent > 0 ? (
        <p className="text-[13px] pt-1">
          The two reach each other {c.percent.toFixed(4)} % of the time; {short(c.minutes)} minutes a year
          they do not.
        </p>
      ) : null}
    </>
  );
}

function Pick(props: { label: string; sites: string[]; value: string; onPick: (site: string) => void }) {
  return (
    <select
      className="cell w-36"
      aria-label={props.label}
      value={props.value}
      onChange={(e) => props.onPick(e.target.value)}
    >
      {props.sites.map((s) => (
        <option key={s}>{s}</option>
      ))}
    </select>
  );
}

const WIDE = 400;

/**
 * Picture draws the first tunnel above and what stands by, or shares the load
 * with it, below: solid carries traffic, the thinner the less, dashes stand
 * ready, dots settle, a gap is the cut.
 */
function Picture({ moments }: { moments: Moment[] }) {
  const at = (phase: string) => moments.find((m) => m.phase === phase)?.after ?? 0;
  const [detect, back] = [at("detect"), at("return")];
  const recovers = moments.some((m) => m.phase === "recover");
  const part = moments.find((m) => m.phase === "switch")?.part ?? 0;
  const thick = (of: number) => Math.max(1.5, 4 * of);
  const scale = (WIDE - 90) / (detect + back + 4);
  const x = { fail: 40, detect: 40 + detect * scale };
  const repair = x.detect + 2 * scale + 30;
  const home = repair + back * scale;
  const said = part
    ? `${short(100 * part)} % of the flows stand still for up to ${short(detect)} s; then those that shared the load carry all until ${short(back)} s after the repair.`
    : recovers
      ? `Nothing flows for up to ${short(detect)} s; then the standby carries it until ${short(back)} s after the repair.`
      : detect > 0
        ? `Nothing takes over after ${short(detect)} s.`
        : "Nothing takes over.";
  return (
    <svg viewBox={`0 0 ${WIDE} 74`} className="w-full my-2 text-base-content" role="img" aria-label={said}>
      <title>{said}</title>
      <g stroke="currentColor" fill="none" className="text-primary">
        <g strokeWidth={thick(part || 1)}>
          <path d={`M4 18H${x.fail}`} />
          {recovers ? <path d={`M${home} 18H${WIDE - 4}`} /> : null}
        </g>
        {part ? <path d={`M4 42H${WIDE - 4}`} strokeWidth={thick(1 - part)} /> : null}
        {recovers ? <path d={`M${x.detect} 42H${home}`} strokeWidth={thick(1)} /> : null}
      </g>
      <g stroke="currentColor" fill="none" className="text-secondary">
        {recovers ? <path d={`M${repair} 18H${home}`} strokeWidth="3" strokeDasharray="1 5" /> : null}
        {part ? null : <path d={`M4 42H${x.detect}`} strokeDasharray="6 4" />}
        {recovers && !part ? <path d={`M${home} 42H${WIDE - 4}`} strokeDasharray="6 4" /> : null}
      </g>
      <g className="text-error" stroke="currentColor" strokeWidth="2">
        <path d={`M${x.fail - 4} 13l8 10m0-10l-8 10`} />
      </g>
      <g fill="currentColor" fontSize="10">
        {moments
          .filter((m) => m.phase === "missed" || m.phase === "detect")
          .map((m) => (
            <rect key={m.after} x={x.fail + m.after * scale - 0.75} y="26" width="1.5" height="8" />
          ))}
        <text x={x.fail} y="66" textAnchor="middle">
          0 s
        </text>
        {detect > 0 ? (
          <text x={x.detect} y="66" textAnchor="middle">
            {short(detect)} s
          </text>
        ) : null}
        {recovers ? (
          <>
            <text x={repair} y="66" textAnchor="middle">
              repair
            </text>
            <text x={home} y="66" textAnchor="middle">
              +{short(back)} s
            </text>
          </>
        ) : null}
        <text x="4" y="9">
          first choice
        </text>
        <text x="4" y="55">
          {part ? "shares the load" : recovers ? "stands by" : "nothing stands by"}
        </text>
      </g>
    </svg>
  );
}
