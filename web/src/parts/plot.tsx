import { useEffect, useRef, useSyncExternalStore } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

/** One line of a plot. Lines differ by dashes as well as by colour. */
export interface Line {
  label: string;
  values: (number | null)[];
  color: "primary" | "error" | "warning" | "secondary" | "info";
  dash?: number[];
}

/** Moments that are marked, in seconds since 1970. */
export interface PlotMark {
  at: number;
  color: "primary" | "error" | "success";
}

/** Plots that share a name have one cursor. */
interface Props {
  name: string;
  unit: string;
  at: number[];
  lines: Line[];
  marks: PlotMark[];
  span: { from: number; to: number };
  height?: number;
  /** The least that the scale reaches up to. */
  least?: number;
  format: (value: number) => string;
  onZoom: (from: number, to: number) => void;
  sync: string;
}

/** The theme, as it is and when it changes. */
const useTheme = () =>
  useSyncExternalStore(
    (changed) => {
      const seen = new MutationObserver(changed);
      seen.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
      return () => seen.disconnect();
    },
    () => document.documentElement.dataset.theme ?? "",
  );

const ink = (name: string) =>
  getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`).trim();

/** Plot draws lines over time; a stretch that is dragged over is zoomed to. */
export function Plot(props: Props) {
  const box = useRef<HTMLDivElement>(null);
  const last = useRef(props);
  last.current = props;
  const plot = useRef<uPlot>(undefined);
  const theme = useTheme();
  const shape = JSON.stringify([props.lines.map((l) => l.label), props.unit, props.sync]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: drawn anew when the lines are others, or the theme
  useEffect(() => {
    const host = box.current as HTMLDivElement;
    const made = new uPlot(options(last, host.clientWidth), dataOf(last.current), host);
    plot.current = made;
    const resized = new ResizeObserver(() =>
      made.setSize({ width: host.clientWidth, height: last.current.height ?? 150 }),
    );
    resized.observe(host);
    return () => {
      resized.disconnect();
      made.destroy();
    };
  }, [shape, theme]);
  useEffect(() => {
    plot.current?.setData(dataOf(props), false);
    plot.current?.setScale("x", { min: props.span.from, max: props.span.to });
  }, [props]);
  return <div ref={box} role="img" aria-label={`${props.name}, in ${props.unit}`} data-plot={props.name} />;
}

const dataOf = (p: Props): uPlot.AlignedData => [p.at, ...p.lines.map((l) => l.values)];

function options(last: { current: Props }, width: number): uPlot.Options {
  const p = last.current;
  const font = "12px 'IBM Plex Sans', sans-serif";
  const axis = {
    stroke: ink("secondary"),
    font,
    grid: { stroke: ink("base-300"), width: 1 },
    ticks: { stroke: ink("base-300"), width: 1 },
  };
  return {
    width,
    height: p.height ?? 150,
    scales: {
      x: { time: true, range: () => [last.current.span.from, last.current.span.to] },
      y: { range: (_, _low, high) => [0, Math.max(high ?? 0, last.current.least ?? 0) * 1.08 || 1] },
    },
    axes: [
      { ...axis, values: clock },
      { ...axis, size: 84, values: (_, ticks) => ticks.map((v) => p.format(v)) },
    ],
    series: [
      { value: (_, v) => (v == null ? "–" : new Date(v * 1000).toLocaleString()) },
      ...p.lines.map(
        (l): uPlot.Series => ({
          label: l.label,
          stroke: ink(l.color),
          width: 1.5,
          ...(l.dash ? { dash: l.dash } : {}),
          ...(uPlot.paths.stepped ? { paths: uPlot.paths.stepped({ align: 1 }) } : {}),
          points: { show: false },
          value: (_, v) => (v == null ? "–" : p.format(v)),
        }),
      ),
    ],
    cursor: { sync: { key: p.sync }, drag: { x: true, y: false, setScale: false } },
    legend: {
      live: true,
      markers: {
        width: 2,
        dash: (_, i) => {
          const dash = p.lines[i - 1]?.dash;
          return dash ? ((dash[0] ?? 0) < 4 ? "dotted" : "dashed") : "solid";
        },
      },
    },
    hooks: {
      setSelect: [
        (u) => {
          if (u.select.width > 4) {
            last.current.onZoom(
              Math.floor(u.posToVal(u.select.left, "x")),
              Math.ceil(u.posToVal(u.select.left + u.select.width, "x")),
            );
          }
          u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
        },
      ],
      drawClear: [(u) => drawMarks(u, last.current)],
    },
  };
}

/** Ticks of time by a clock of 24 hours; with the day where it changes. */
function clock(_: uPlot, ticks: number[], _axis: number, _space: number, step: number): string[] {
  let day = "";
  return ticks.map((tick) => {
    const at = new Date(tick * 1000);
    const date = at.toLocaleDateString(undefined, { day: "numeric", month: "short" });
    const time = at.toLocaleTimeString(undefined, {
      hour: "2-digit",
      minute: "2-digit",
      ...(step < 60 ? { second: "2-digit" } : {}),
      hourCycle: "h23",
    });
    const fresh = date !== day;
    day = date;
    return step >= 86_400 ? date : fresh ? `${time}\n${date}` : time;
  });
}

function drawMarks(u: uPlot, p: Props) {
  const { ctx } = u;
  ctx.save();
  ctx.lineWidth = devicePixelRatio;
  ctx.setLineDash([3, 3]);
  for (const mark of p.marks) {
    const x = Math.round(u.valToPos(mark.at, "x", true));
    if (x >= u.bbox.left && x <= u.bbox.left + u.bbox.width) {
      ctx.strokeStyle = ink(mark.color);
      ctx.beginPath();
      ctx.moveTo(x, u.bbox.top);
      ctx.lineTo(x, u.bbox.top + u.bbox.height);
      ctx.stroke();
    }
  }
  ctx.restore();
}
