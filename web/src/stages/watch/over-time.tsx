import { Link } from "react-router";
import { useGateway, useGateways } from "../../api/gateways";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useSites } from "../../api/queries";
import { type Span, type Subject, sheetOf, useCarried, useSeries } from "../../api/series";
import { useAddress } from "../../parts/address";
import { count } from "../../parts/number";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { Bands } from "./bands";
import { useMeasuredNow } from "./last-hour";
import { Measured } from "./measured";

const spans: [hours: number, words: string][] = [
  [1, "the last hour"],
  [6, "the last 6 hours"],
  [24, "the last day"],
  [168, "the last 7 days"],
  [504, "the last 21 days"],
  [2160, "the last 90 days"],
];

/**
 * OverTime shows how a tunnel, a WAN link or a pair of sites did. The engineer wants to know when it
 * changed and what happened then; they compare one way with the other, and now with before.
 */
export default function OverTime() {
  const at = usePlace();
  const [params, set] = useAddress();
  const now = useMeasuredNow();
  const hours = Number(params.get("hours")) || 1;
  const chosen = { from: Number(params.get("from")), to: Number(params.get("to")) };
  const zoomed = chosen.from > 0 && chosen.to > chosen.from;
  const span: Span = zoomed ? chosen : { from: now - hours * 3600, to: now };
  const subject = subjectOf(params);
  const zoom = (from: number, to: number) => set({ from: String(from), to: String(Math.max(to, from + 60)) });
  return (
    <div className="pb-10">
      <StageHead
        title="Over time"
        actions={
          <>
            <select
              className="cell w-auto"
              aria-label="How long"
              value={zoomed ? "" : hours}
              onChange={(e) => set({ hours: e.target.value, from: "", to: "" })}
            >
              {zoomed ? <option value="">a stretch of it</option> : null}
              {spans.map(([h, words]) => (
                <option key={h} value={h}>
                  {words}
                </option>
              ))}
            </select>
            {zoomed ? (
              <button type="button" className="btn btn-sm" onClick={() => set({ from: "", to: "" })}>
                Zoom out
              </button>
            ) : null}
            {subject && !("other" in subject) ? (
              <>
                {"interface" in subject ? (
                  <Link
                    className="btn btn-sm"
                    to={`${pageOf(at)}/watch/-/bench?site=${subject.site}&interface=${subject.interface}`}
                  >
                    Test throughput
                  </Link>
                ) : null}
                <a className="btn btn-sm" href={sheetOf(at.estate, subject, span)} download>
                  Take away as CSV
                </a>
              </>
            ) : null}
          </>
        }
      >
        When did it change, and what happened then? Drag over a stretch to look closer. {zone()}
      </StageHead>
      <div className="px-6">
        <Choice
          key={params.get("site") ?? ""}
          at={at}
          subject={subject}
          site={params.get("site") ?? ""}
          set={set}
        />
        {subject === undefined ? (
          <p className="text-secondary">
            Choose a gateway, and a tunnel or a WAN link of it, or another site.
          </p>
        ) : "other" in subject ? (
          <OfPair at={at} subject={subject} other={subject.other} span={span} onZoom={zoom} />
        ) : (
          <OfOne at={at} subject={subject} span={span} onZoom={zoom} />
        )}
      </div>
    </div>
  );
}

/** Says of which zone times are. */
function zone(): string {
  const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
  return here === "UTC" ? "Times are UTC." : `Times are of ${here}; sheets have UTC.`;
}

function subjectOf(params: URLSearchParams): Subject | undefined {
  const site = params.get("site");
  for (const name of ["interface", "link", "other"] as const) {
    const value = params.get(name);
    if (site && value) {
      return { site, [name]: value } as Subject;
    }
  }
}

/** How many tunnels of a gateway are offered by name; the others are chosen where they are found. */
const MOST_NAMED = 500;

/** Choice picks a gateway, and what of it. */
function Choice(props: {
  at: Place;
  site: string;
  subject: Subject | undefined;
  set: (values: Record<string, string>) => void;
}) {
  const sites = useSites(props.at).data ?? [];
  const joined = new Set((useGateways(props.at.estate).data?.gateways ?? []).map((g) => g.site));
  const g = useGateway(props.at.estate, props.site, joined.has(props.site), { most: MOST_NAMED }).data;
  const { subject, site } = props;
  const value = !subject
    ? ""
    : "interface" in subject
      ? `interface ${subject.interface}`
      : "link" in subject
        ? `link ${subject.link}`
        : `other ${subject.other}`;
  const ends = [...(g?.tunnel_ends ?? [])].sort((a, b) => (a.interface < b.interface ? -1 : 1));
  const options = [
    ...ends.map((t) => [
      `interface ${t.interface}`,
      t.peer ? `${t.link} to ${t.peer}/${t.peer_link}` : t.interface,
    ]),
    ...(g?.wan_links ?? []).map((l) => [`link ${l.link}`, l.link]),
    ...sites.filter((s) => s.key !== site).map((s) => [`other ${s.key}`, s.name || s.key]),
  ] as [string, string][];
  const group = (label: string, of: string) => {
    const list = options.filter(([v]) => v.startsWith(of));
    return list.length > 0 ? (
      <optgroup label={label}>
        {list.map(([v, words]) => (
          <option key={v} value={v}>
            {words}
          </option>
        ))}
      </optgroup>
    ) : null;
  };
  const none = { interface: "", link: "", other: "" };
  return (
    <div className="flex flex-wrap gap-3 items-end mb-3">
      <label className="text-xs text-secondary">
        Gateway of
        <select
          className="cell block w-64"
          value={site}
          onChange={(e) => props.set({ ...none, site: e.target.value })}
        >
          <option value="">choose a site</option>
          {sites
            .filter((s) => joined.has(s.key))
            .map((s) => (
              <option key={s.key} value={s.key}>
                {s.name || s.key}
              </option>
            ))}
        </select>
      </label>
      <label className="text-xs text-secondary">
        What of it
        <select
          className="cell block w-80"
          value={value}
          disabled={!site}
          onChange={(e) => {
            const [name, of = ""] = e.target.value.split(" ");
            props.set({ ...none, ...(name ? { [name]: of } : {}) });
          }}
        >
          <option value="">choose a tunnel, a link or a site</option>
          {value && !options.some(([v]) => v === value) ? (
            <option value={value}>{value.split(" ")[1]}</option>
          ) : null}
          {group(
            g && g.matching > ends.length
              ? `A tunnel, as this end sees it: ${ends.length} of ${count(g.matching)}`
              : "A tunnel, as this end sees it",
            "interface ",
          )}
          {group("A WAN link", "link ")}
          {group("What carried packets to", "other ")}
        </select>
      </label>
    </div>
  );
}

function OfOne(props: {
  at: Place;
  subject: Subject;
  span: Span;
  onZoom: (from: number, to: number) => void;
}) {
  const series = useSeries(props.at.estate, props.subject, props.span);
  return (
    <>
      <Trouble error={series.error} />
      {series.isPending ? <Waiting what="what was measured" /> : null}
      {series.data ? (
        <Measured
          series={series.data}
          kind={"link" in props.subject ? "link" : "tunnel"}
          span={props.span}
          onZoom={props.onZoom}
          page={pageOf(props.at)}
        />
      ) : null}
    </>
  );
}

function OfPair(props: {
  at: Place;
  subject: Subject;
  other: string;
  span: Span;
  onZoom: (from: number, to: number) => void;
}) {
  const carried = useCarried(props.at.estate, props.subject, props.span);
  const names = new Map((useSites(props.at).data ?? []).map((s) => [s.key, s.name || s.key]));
  return (
    <>
      <Trouble error={carried.error} />
      {carried.isPending ? <Waiting what="what carried it" /> : null}
      {carried.data ? (
        <Bands
          carried={carried.data}
          span={props.span}
          names={names}
          other={props.other}
          onZoom={props.onZoom}
        />
      ) : null}
    </>
  );
}
