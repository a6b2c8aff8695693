import type { LiveCell } from "../../api/client";

type State = NonNullable<LiveCell["threads"]>[number];

export const threadWords: Record<State, string> = {
  carries: "carries",
  "stands-by": "stands by",
  beyond: "beyond its limits",
  dead: "dead",
  unseen: "no report",
};

/** Thread draws how a tunnel stands: its look tells it without colour, too. */
export function Thread({ is, y, width }: { is: State; y: number; width: number }) {
  const line = (x1: number, x2: number, stroke: number, dash?: string) => (
    <line x1={x1} x2={x2} y1={y} y2={y} stroke="currentColor" strokeWidth={stroke} strokeDasharray={dash} />
  );
  switch (is) {
    case "carries":
      return <g className="text-primary">{line(0, width, 3)}</g>;
    case "stands-by":
      return <g className="text-primary">{line(0, width, 1)}</g>;
    case "beyond":
      return <g className="text-warning">{line(0, width, 2, "5 3")}</g>;
    case "dead": // torn in the middle
      return (
        <g className="text-error">
          {line(0, width / 2 - 5, 2)}
          {line(width / 2 + 5, width, 2)}
          <line x1={width / 2 - 5} x2={width / 2 - 5} y1={y - 3} y2={y + 3} stroke="currentColor" />
          <line x1={width / 2 + 5} x2={width / 2 + 5} y1={y - 3} y2={y + 3} stroke="currentColor" />
        </g>
      );
    default:
      return <g className="text-secondary">{line(0, width, 1, "1 3")}</g>;
  }
}

const SHOWN = 5;

/** LiveThreads draws the tunnels of a pair, the first choice on top, and how many of them live. */
export function LiveThreads({ threads }: { threads: State[] }) {
  const live = threads.filter((t) => t !== "dead" && t !== "unseen").length;
  const shown = threads.slice(0, SHOWN);
  return (
    <>
      <svg width="44" height="26" aria-hidden="true">
        {shown.map((t, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a thread is its rank
          <Thread key={i} is={t} y={13 + (i - (shown.length - 1) / 2) * 5.5} width={44} />
        ))}
      </svg>
      <span>{live < threads.length ? `${live} of ${threads.length}` : threads.length}</span>
    </>
  );
}
