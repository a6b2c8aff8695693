import { Link } from "react-router";
import type { Series } from "../../api/client";
import type { Span } from "../../api/series";
import { type Line, Plot } from "../../parts/plot";
import { Meanwhile, marksOf } from "./meanwhile";

type Name = Series["columns"][number]["name"];

/** What is drawn together, and how it is written. */
interface Sheet {
  name: string;
  unit: string;
  format: (value: number) => string;
  least: number;
  /** Whether a mean says more than what half the time stays under. */
  mean?: true;
  lines: { of: Name; label: string; color: Line["color"]; dash?: number[] }[];
}

export const msText = (v: number) => `${v.toFixed(v < 10 ? 1 : 0)} ms`;
const percent = (v: number) => `${v.toFixed(v > 0 && v < 10 ? 1 : 0)} %`;

/** A rate in the unit that suits it. */
export function rateText(v: number): string {
  for (const [size, unit] of [
    [1e9, "Gbit/s"],
    [1e6, "Mbit/s"],
    [1e3, "kbit/s"],
  ] as const) {
    if (v >= size) {
      const n = v / size;
      return `${n.toFixed(n < 10 ? 1 : 0)} ${unit}`;
    }
  }
  return `${v.toFixed(0)} bit/s`;
}

const rate: Sheet = {
  name: "Rate",
  unit: "bit/s",
  format: rateText,
  least: 1000,
  lines: [
    { of: "in", label: "in", color: "primary" },
    { of: "out", label: "out", color: "warning", dash: [6, 3] },
  ],
};

const sheets = {
  tunnel: [
    {
      name: "Latency",
      unit: "ms",
      format: msText,
      least: 1,
      lines: [
        { of: "latency", label: "mean", color: "primary" },
        { of: "max_latency", label: "worst", color: "secondary", dash: [2, 3] },
        { of: "jitter", label: "jitter", color: "warning", dash: [6, 3] },
      ],
    },
    {
      name: "Loss",
      unit: "%",
      format: percent,
      least: 5,
      mean: true,
      lines: [
        { of: "lost_there", label: "of what it sent", color: "primary" },
        { of: "lost_back", label: "on the way back", color: "warning", dash: [6, 3] },
        { of: "dead", label: "dead", color: "error", dash: [2, 3] },
      ],
    },
    rate,
  ],
  link: [
    rate,
    {
      name: "Down",
      unit: "%",
      format: percent,
      least: 5,
      mean: true,
      lines: [{ of: "down", label: "no tunnel of it lived", color: "error" }],
    },
  ],
} satisfies Record<string, Sheet[]>;

/** Measured draws what was measured of one end of a tunnel, or of a link. */
export function Measured(props: {
  series: Series;
  kind: keyof typeof sheets;
  span: Span;
  onZoom: (from: number, to: number) => void;
  page: string;
  /** The most events that are listed; all without it. */
  most?: number;
}) {
  const { series } = props;
  const values = (name: Name) => series.columns.find((c) => c.name === name)?.values ?? [];
  if (series.at.length === 0) {
    return (
      <p className="py-3 text-secondary">
        Nothing was measured in this time. Gateways measure from when they have a release; a sample of{" "}
        {series.seconds} s is here some seconds after it ended.{" "}
        <Link className="link" to={`${props.page}/watch`}>
          All gateways
        </Link>
      </p>
    );
  }
  return (
    <>
      {sheets[props.kind].map((sheet: Sheet) => (
        <section key={sheet.name} className="mb-1">
          <h2 className="text-base">
            {sheet.name}
            <span className="font-sans font-normal text-[13px] text-secondary">
              {sheet.lines.slice(0, 2).map((l) => (
                <Figures key={l.of} sheet={sheet} label={l.label} values={values(l.of)} />
              ))}
            </span>
          </h2>
          <Plot
            name={sheet.name}
            unit={sheet.unit}
            at={series.at}
            lines={sheet.lines.map((l) => ({ ...l, values: values(l.of) }))}
            marks={marksOf(series.marks)}
            span={props.span}
            least={sheet.least}
            format={sheet.format}
            onZoom={props.onZoom}
            sync="over-time"
          />
        </section>
      ))}
      <Meanwhile marks={series.marks} onZoom={props.onZoom} most={props.most} />
    </>
  );
}

/** A line in words: what it mostly is, and the most. */
function Figures({ sheet, label, values }: { sheet: Sheet; label: string; values: (number | null)[] }) {
  const list = values.filter((v) => v !== null).sort((a, b) => a - b);
  const most = list.at(-1);
  if (most === undefined) {
    return null;
  }
  const mostly = sheet.mean
    ? `${sheet.format(list.reduce((sum, v) => sum + v, 0) / list.length)} on average`
    : `half the time up to ${sheet.format(list[Math.floor((list.length - 1) / 2)] as number)}`;
  return <> · {`${label}: ${mostly}, at most ${sheet.format(most)}`}</>;
}
