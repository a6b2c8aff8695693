import type { Carried } from "../../api/client";
import type { Span } from "../../api/series";
import { Meanwhile } from "./meanwhile";

type Band = Carried["legs"][number]["bands"][number];

const looks: Record<Band["state"], string> = {
  first: "bg-primary text-primary-content",
  standby: "bg-base-200 border border-warning text-base-content",
  none: "clash border text-base-content",
  unknown: "border border-dashed border-secondary text-secondary",
};

const words: Record<Band["state"], string> = {
  first: "first choice",
  standby: "standby",
  none: "nothing left",
  unknown: "not known: what it ran is no release",
};

const said = (b: Band) => (b.tunnels.length > 0 ? b.tunnels.join(" and ") : words[b.state]);

/** A moment with its seconds, and its day where that may be another. */
const clock = (at: string, span: Span) =>
  new Date(at).toLocaleString(undefined, {
    ...(span.to - span.from > 86_400 ? { day: "numeric", month: "short" } : {}),
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
    hourCycle: "h23",
  });

function lasted(b: Band): string {
  const seconds = (Date.parse(b.to) - Date.parse(b.from)) / 1000;
  return seconds < 120
    ? `${seconds} s`
    : seconds < 7200
      ? `${Math.round(seconds / 60)} min`
      : `${Math.round(seconds / 3600)} h`;
}

/**
 * Bands show which tunnels carried packets from a site to another, a line for each gateway on the
 * way. The engineer wants to see when it moved, where to, and for how long.
 */
export function Bands(props: {
  carried: Carried;
  span: Span;
  names: Map<string, string>;
  other: string;
  onZoom: (from: number, to: number) => void;
  /** The most events that are listed; all without it. */
  most?: number;
}) {
  const { carried, span } = props;
  const place = (at: string) =>
    Math.min(100, Math.max(0, ((Date.parse(at) / 1000 - span.from) / (span.to - span.from)) * 100));
  const name = (site: string) => props.names.get(site) ?? site;
  if (carried.legs.every((l) => l.bands.length === 0)) {
    return <p className="py-3 text-secondary">Nothing was measured in this time.</p>;
  }
  return (
    <>
      {carried.legs.map((leg, i) => (
        <section key={leg.site} className="mb-3" data-leg={leg.site}>
          <h2 className="text-base">
            {name(leg.site)} {i === 0 ? `to ${name(props.other)}` : "passes it on"}
          </h2>
          <div className="relative h-9 border-b border-base-300" aria-hidden="true">
            {leg.bands.map((b) => (
              <div
                key={b.from}
                className={`absolute top-1 bottom-1 overflow-hidden whitespace-nowrap text-xs leading-7 px-1 ${looks[b.state]}`}
                style={{ left: `${place(b.from)}%`, width: `${place(b.to) - place(b.from)}%` }}
                title={`${said(b)}: ${new Date(b.from).toLocaleString()} to ${new Date(b.to).toLocaleTimeString()}`}
              >
                {said(b)}
              </div>
            ))}
            {carried.marks.map((m) => (
              <div
                key={`${m.at}${m.words}`}
                className={`absolute top-0 bottom-0 border-l border-dashed ${m.kind === "began" ? "border-error" : m.kind === "release" ? "border-primary" : "border-success"}`}
                style={{ left: `${place(m.at)}%` }}
                title={m.words}
              />
            ))}
          </div>
          <p className="flex justify-between text-xs text-secondary" aria-hidden="true">
            <span>{clock(carried.from, span)}</span>
            <span>{clock(carried.to, span)}</span>
          </p>
          <table className="ruled mt-1 max-w-4xl">
            <tbody>
              {[...leg.bands]
                .reverse()
                .slice(0, props.most === undefined ? 12 : 4)
                .map((b) => (
                  <tr key={b.from}>
                    <td className="w-28 whitespace-nowrap">
                      <button
                        type="button"
                        className="link"
                        title="Look closer"
                        onClick={() => {
                          const [from, to] = [Date.parse(b.from) / 1000, Date.parse(b.to) / 1000];
                          props.onZoom(from - (to - from), to + (to - from));
                        }}
                      >
                        {clock(b.from, span)}
                      </button>
                    </td>
                    <td className="w-20 whitespace-nowrap">for {lasted(b)}</td>
                    <td className="w-32 whitespace-nowrap">
                      {b.state === "first"
                        ? "✓ "
                        : b.state === "standby"
                          ? "▲ "
                          : b.state === "none"
                            ? "■ "
                            : "○ "}
                      {words[b.state]}
                    </td>
                    <td>{b.tunnels.join(" and ")}</td>
                  </tr>
                ))}
            </tbody>
          </table>
        </section>
      ))}
      <p className="text-secondary text-[13px]">
        Of packets that no policy steers elsewhere, to within {carried.seconds} s.
      </p>
      <Meanwhile marks={carried.marks} onZoom={props.onZoom} most={props.most} />
    </>
  );
}
