import { useState } from "react";
import type { RolloutDetail } from "../../api/client";
import { count, many } from "../../parts/number";

type Echoes = NonNullable<RolloutDetail["proof"]["echoes"]>;

/** What a pair of gateways heard: a shape, a tone and words. The letters are the server's. */
const marks: Record<string, { shape: string; tone: string; words: string }> = {
  ".": { shape: " ", tone: "", words: "not asked" },
  a: { shape: "·", tone: "", words: "answered as expected" },
  n: { shape: "–", tone: "text-secondary", words: "no answer, as expected or as accepted" },
  x: { shape: "■", tone: "text-error", words: "no answer" },
  s: { shape: "▲", tone: "text-error", words: "a small packet is answered, a full one is not" },
  w: { shape: "↪", tone: "text-warning", words: "answered by other sites than expected" },
  o: { shape: "◆", tone: "text-warning", words: "answered, and was not to be" },
  "?": { shape: "?", tone: "text-warning", words: "the gateway did not say" },
};

const nothing = { shape: " ", tone: "", words: "not asked" };

/**
 * EchoesSeen says what gateways heard when they asked each other from LAN to LAN: each row asks,
 * each column is asked.
 */
export function EchoesSeen({ echoes }: { echoes: Echoes }) {
  const [over, setOver] = useState<string>();
  const used = Object.keys(marks).filter((m) => m !== "." && echoes.grid.some((row) => row.includes(m)));
  return (
    <section className="mt-4" data-testid="echoes">
      <h3 className="font-semibold">From LAN to LAN</h3>
      <p className="text-secondary mb-2">
        Gateways asked each other, from an address of their own LAN to one of the other's: {how(echoes)}
      </p>
      {echoes.grid.length > 0 ? (
        <>
          <p className="text-[13px] flex flex-wrap gap-x-5 mb-1">
            {used.map((m) => (
              <span key={m}>
                <span aria-hidden="true" className={`font-mono ${marks[m]?.tone}`}>
                  {marks[m]?.shape}
                </span>{" "}
                {marks[m]?.words}
              </span>
            ))}
          </p>
          <div className="relative overflow-x-auto">
            <table className="font-mono text-[12px] leading-none border-collapse">
              <caption className="sr-only">Each row asks, each column is asked.</caption>
              <tbody>
                {echoes.grid.map((row, i) => (
                  <tr key={echoes.sites[i]} className="hover:bg-base-200">
                    <th
                      scope="row"
                      className="font-normal text-right pr-2 whitespace-nowrap max-w-48 truncate"
                    >
                      {echoes.sites[i]}
                    </th>
                    {[...row].map((m, j) => {
                      const mark = marks[m] ?? nothing;
                      const words = `${echoes.sites[i]} asks ${echoes.sites[j]}: ${mark.words}`;
                      return (
                        <td
                          key={echoes.sites[j]}
                          className={`w-3 min-w-3 h-3.5 text-center border border-base-200 ${mark.tone}`}
                          onPointerEnter={() => setOver(i === j ? undefined : words)}
                          aria-label={m === "a" || m === "." ? undefined : words}
                        >
                          {mark.shape}
                        </td>
                      );
                    })}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <p className="text-[13px] min-h-5 mt-1" role="status">
            {over ?? (
              <span className="text-secondary">
                Point at a pair to read it; rows ask, columns are asked in the same order.
              </span>
            )}
          </p>
        </>
      ) : null}
    </section>
  );
}

/** How many asked whom, and who did not. */
function how(e: Echoes): string {
  const out = [
    e.as_expected === e.asked
      ? `all ${count(e.asked)} echoes are as expected`
      : `${count(e.as_expected)} of ${count(e.asked)} echoes are as expected`,
  ];
  if (e.sampled) {
    out.push(
      "there are more than 100 gateways, so each asked two others: its next one by name and the one half way round",
    );
  } else if (e.asked < e.of) {
    out.push(
      `of ${count(e.of)} pairs, those were asked that the round could change, 400 at most; after the last round all are`,
    );
  }
  if (e.away > 0) {
    out.push(`${many(e.away, "gateway is", "gateways are")} away and left out`);
  }
  if (e.doubled > 0) {
    out.push(
      `${many(e.doubled, "gateway has", "gateways have")} an address that another one has, too, and ${e.doubled === 1 ? "is" : "are"} not asked: who answers would not be known`,
    );
  }
  if (e.homeless > 0) {
    out.push(`${many(e.homeless, "gateway has", "gateways have")} no address in what the site shares`);
  }
  return `${out.join("; ")}. Hosts behind the gateways are not asked, so what a policy denies to them is not tried.`;
}
