import type { Series } from "../../api/client";
import type { PlotMark } from "../../parts/plot";
import { When } from "../../parts/when";

type Mark = Series["marks"][number];

/** Marks as plots draw them. */
export const marksOf = (marks: Mark[]): PlotMark[] =>
  marks
    .filter((m) => m.kind !== "joined")
    .map((m) => ({
      at: Date.parse(m.at) / 1000,
      color: m.kind === "release" ? "primary" : m.kind === "began" ? "error" : "success",
    }));

const signs: Record<Mark["kind"], string> = {
  began: "■ began",
  ended: "✓ over",
  joined: "○ part of more",
  release: "◆ released",
};

/** How much of the time around a mark is looked at closer, in seconds each way. */
const AROUND = 300;

/** Meanwhile lists what the marks in plots are: events and releases of that time, newest first. */
export function Meanwhile(props: {
  marks: Mark[];
  onZoom: (from: number, to: number) => void;
  most?: number;
}) {
  const { marks, onZoom, most = marks.length } = props;
  if (most === 0 && marks.length > 0) {
    return null;
  }
  if (marks.length === 0) {
    return <p className="text-secondary text-[13px] mt-2">No event and no release in this time.</p>;
  }
  return (
    <section className="mt-2 max-w-4xl">
      <h2 className="text-base">Meanwhile</h2>
      <table className="ruled" data-testid="meanwhile">
        <tbody>
          {[...marks]
            .reverse()
            .slice(0, most)
            .map((m) => (
              <tr key={`${m.at}${m.words}${m.kind}`}>
                <td className="w-40">
                  <button
                    type="button"
                    className="link"
                    title="Look closer"
                    onClick={() => {
                      const at = Math.floor(Date.parse(m.at) / 1000);
                      onZoom(at - AROUND, at + AROUND);
                    }}
                  >
                    <When at={m.at} />
                  </button>
                </td>
                <td className={`w-32 whitespace-nowrap ${m.kind === "began" ? "text-error" : ""}`}>
                  {signs[m.kind]}
                </td>
                <td>{m.words.charAt(0).toUpperCase() + m.words.slice(1)}</td>
              </tr>
            ))}
        </tbody>
      </table>
    </section>
  );
}
