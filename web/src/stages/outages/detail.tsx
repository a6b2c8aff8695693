import { X } from "lucide-react";
import { Link } from "react-router";
import type { DetailSheet, LineSheet, StretchSheet, TakeoverSheet } from "../../api/client";
import { useDrills } from "../../api/drills";
import { useGateways } from "../../api/gateways";
import { useOutage } from "../../api/outages";
import { type Place, pageOf } from "../../api/place";
import { useAddress } from "../../parts/address";
import { failing, partOf, partText } from "../../parts/failing";
import { lookAt } from "../../parts/look";
import { count, many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";
import { states } from "../watch/drill-states";
import { Course } from "./course";
import { letterOf, short, verdicts } from "./words";

/** Detail is what the chosen parts do when they fail together. */
export function Detail(props: {
  at: Place;
  fail: string[];
  onChoose: (parts: string[], more: boolean) => void;
  onClose: () => void;
}) {
  const { at, fail } = props;
  const outage = useOutage(at, fail);
  const d = outage.data;
  return (
    <section
      aria-label="What the failure does"
      className="relative overflow-auto border-l border-base-content pl-4 pb-6"
    >
      <h2 className="text-base flex gap-2">
        <span>
          {fail.map((f, i) => (
            <span key={f}>
              {i > 0 ? " and " : ""}
              {failing([f])}
              {fail.length > 1 ? (
                <button
                  type="button"
                  className="link text-xs ml-1"
                  aria-label={`${partText(f)} does not fail`}
                  onClick={() => props.onChoose([f], true)}
                >
                  not
                </button>
              ) : null}
            </span>
          ))}
        </span>
        <button
          type="button"
          className="btn btn-xs btn-square ml-auto"
          aria-label="Close"
          onClick={props.onClose}
        >
          <X size={12} />
        </button>
      </h2>
      <Trouble error={outage.error} />
      {outage.isPending ? <Waiting what="the failure" /> : null}
      {d ? <Told at={at} d={d} fail={fail} /> : null}
    </section>
  );
}

/** When it was drilled last, and how that was. */
function Drilled({ at, part }: { at: Place; part: string }) {
  const joined = (useGateways(at.estate).data?.gateways ?? []).length > 0;
  const last = useDrills(at.estate, joined).data?.find((d) => d.part === part && d.ended_at);
  if (!joined) {
    return null;
  }
  return (
    <>
      {" · "}
      <Link
        className="link link-primary"
        to={`${pageOf(at)}/watch/-/drills?${new URLSearchParams({ fail: part })}`}
      >
        Drill it
      </Link>
      {last ? (
        <span data-testid="drilled">
          {" · "}
          {states[last.state]},{" "}
          <Link className="link" to={`${pageOf(at)}/watch/-/drills?drill=${last.number}`}>
            <When at={last.ended_at ?? last.begins_at} />
          </Link>
        </span>
      ) : (
        <span className="text-secondary"> · never drilled</span>
      )}
    </>
  );
}

function Told({ at, d, fail }: { at: Place; d: DetailSheet; fail: string[] }) {
  const [params, set] = useAddress();
  const sites = d.sites ?? [];
  const asked = params.get("at") ?? "";
  const site = sites.some((s) => s.site === asked) ? asked : "";
  const takeovers = d.takeovers.filter((t) => !site || t.site === site);
  return (
    <>
      <p>
        {d.another_way === 1 ? "1 pair of sites takes" : `${count(d.another_way)} pairs of sites take`}{" "}
        another way, {count(d.moved)} of them with room enough; {count(d.squeezed)} are squeezed,{" "}
        {count(d.cut)} cut.{" "}
        {fail.every((f) => partOf(f).degree !== "dead")
          ? "Only what is held to limits moves; all else stays. "
          : ""}
        {d.beyond > 0
          ? `Of ${many(d.beyond, "pair")}, what is held to limits is left with tunnels beyond them. `
          : ""}
        {d.lost.length > 0 ? (
          <strong className="text-error">
            ✕ Cuts {d.lost.slice(0, 8).join(", ")}
            {d.lost.length > 8 ? ` and ${d.lost.length - 8} more` : ""}.
          </strong>
        ) : (
          "No site with a living gateway is cut off."
        )}
      </p>
      <p>
        <Link
          className="link link-primary"
          to={`${pageOf(at)}/paths/-/follow?${new URLSearchParams(fail.map((f) => ["fail", f]))}`}
        >
          Follow a packet meanwhile
        </Link>
        {fail.length === 1 && partOf(fail[0] ?? "").degree === "dead" ? (
          <Drilled at={at} part={fail[0] ?? ""} />
        ) : null}
      </p>
      {sites.length === 0 ? (
        <p className="text-secondary">It affects nobody: whatever it carries is standby.</p>
      ) : null}
      <Lines lines={d.lines} />
      <Course
        at={at}
        fail={fail}
        sites={sites.filter((s) => letterOf(s.verdict) !== "-").map((s) => s.site)}
      />
      {sites.length > 0 ? (
        <>
          <h3 className="text-sm mt-3 flex gap-2 items-center">
            Who takes over
            <select
              className="cell w-44 font-normal ml-auto"
              aria-label="At which site"
              value={site}
              onChange={(e) => set({ at: e.target.value })}
            >
              <option value="">
                {sites.length === 1 ? "at the one site it touches" : `at all ${sites.length} sites`}
              </option>
              {sites.map((s) => (
                <option key={s.site} value={s.site}>
                  {s.site}: {s.verdict}
                </option>
              ))}
            </select>
          </h3>
          {takeovers.length === 0 ? (
            <p className="text-secondary text-[13px]">
              No other tunnel: its own gateway is dead, or only far ends move.
            </p>
          ) : null}
          <ul className="text-[13px]">
            {takeovers.slice(0, 60).map((t) => (
              <li
                key={`${t.site} ${t.from?.tunnel} ${t.to?.tunnel}`}
                className="border-b border-base-300 py-1"
                data-look={
                  t.to ? lookAt({ kind: "tunnel", overlay: t.to.overlay, tunnel: t.to.tunnel }) : t.site
                }
              >
                <Link className="link link-hover font-mono" to={`${pageOf(at)}/paths/${t.site}`}>
                  {t.site}
                </Link>{" "}
                {t.from ? <span className="text-secondary">{stretch(t.from)}</span> : "nothing"}{" "}
                <span aria-hidden="true" className={verdicts[took(t)].style}>
                  {verdicts[took(t)].mark}
                </span>{" "}
                {t.to ? (
                  <Link
                    className="link link-hover"
                    to={`${pageOf(at)}/paths/-/tunnel?${new URLSearchParams({ overlay: t.to.overlay, tunnel: t.to.tunnel })}`}
                    title="Both ends of the tunnel that takes over"
                  >
                    {stretch(t.to)}
                  </Link>
                ) : (
                  "nothing takes over"
                )}
                {t.to?.beyond ? <span className="text-warning"> beyond its limits</span> : null}
                <span className="text-xs text-secondary">
                  {" "}
                  {t.to ? `rank ${t.to.rank}, cost ${t.from?.cost ?? "–"} to ${t.to.cost}; ` : ""}
                  {many(t.pairs, "pair")}
                </span>
              </li>
            ))}
            {takeovers.length > 60 ? (
              <li className="text-secondary">and {takeovers.length - 60} more</li>
            ) : null}
          </ul>
        </>
      ) : null}
      {d.pairs.length > 0 ? (
        <details className="mt-3 text-[13px]">
          <summary className="cursor-pointer">Pairs cut in whole or in part</summary>
          <ul className="font-mono text-xs columns-2">
            {d.pairs.slice(0, 120).map((p) => (
              <li key={`${p.a} ${p.b}`} title={`the packets end at ${p.at}`}>
                {p.a} {p.partly ? "±" : "✕"} {p.b}
                {p.partly ? (
                  <span className="block pl-4 text-secondary">
                    {p.subnets?.map((two) => two.join(" ✕ ")).join("; ")}
                  </span>
                ) : null}
              </li>
            ))}
            {d.cut > 120 ? <li>and {count(d.cut - Math.min(120, d.pairs.length))} more</li> : null}
          </ul>
        </details>
      ) : null}
    </>
  );
}

/** A tunnel that takes over, one beyond limits that stays for want of another, or none. */
const took = (t: TakeoverSheet) => (t.to ? (t.to.beyond ? "s" : "m") : "c");

/** What has more to carry than before, the fullest first: a bar as wide as the line allows. */
function Lines({ lines }: { lines: LineSheet[] }) {
  const more = lines.filter((l) => !l.dead && l.after_mbps > l.before_mbps);
  const shown = more.slice(0, 12);
  const title = <h3 className="text-sm mt-3">Does it fit?</h3>;
  if (shown.length === 0) {
    return (
      <>
        {title}
        <p className="text-secondary">No link or gateway carries more than before.</p>
      </>
    );
  }
  return (
    <>
      {title}
      <table className="ruled text-[13px]">
        <thead>
          <tr>
            <th>Link or gateway</th>
            <th className="num">Before</th>
            <th className="num">After</th>
            <th className="num">Capacity, Mbit/s</th>
            <th className="w-20">
              <span className="sr-only">how full</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map((l) => {
            const full = l.capacity_mbps > 0 ? l.after_mbps / l.capacity_mbps : 0;
            return (
              <tr key={`${l.site}/${l.link}`}>
                <td className="font-mono text-xs">
                  {l.link ? `${l.site}/${l.link}` : `${l.site}, gateway`}
                  {(l.shed ?? []).map((s) => (
                    <span key={s.zone} className="block font-sans text-warning">
                      ≈ {s.zone} gives way by {short(s.mbps)} Mbit/s
                    </span>
                  ))}
                </td>
                <td className="num">{short(l.before_mbps)}</td>
                <td className={`num ${full > 1 ? "text-warning font-semibold" : ""}`}>
                  {short(l.after_mbps)}
                </td>
                <td className="num">{l.capacity_mbps ? short(l.capacity_mbps) : "not given"}</td>
                <td>
                  <span className="block h-1.5 border border-base-content" aria-hidden="true">
                    <span
                      className={`block h-full ${full > 1 ? "bg-warning" : "bg-primary"}`}
                      style={{ width: `${Math.min(100, full * 100)}%` }}
                    />
                  </span>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {more.length > shown.length ? (
        <p className="text-xs text-secondary">and {more.length - shown.length} more, less full</p>
      ) : null}
    </>
  );
}

/** A stretch in the words of its links: here — there, with those that share the load. */
function stretch(s: StretchSheet): string {
  return [s, ...(s.beside ?? [])].map((t) => `${t.link} — ${s.via}/${t.via_link}`).join(" + ");
}
