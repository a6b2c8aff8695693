import { Link } from "react-router";
import type { WhyCause } from "../../api/client";
import { type Place, pageOf } from "../../api/place";

/** How sure a cause is, in shape and word. */
const sureness: Record<WhyCause["sure"], { mark: string; words: string; tone: string }> = {
  sure: { mark: "■", words: "The cause", tone: "border-error" },
  likely: { mark: "▲", words: "Likely the cause", tone: "border-warning" },
  possible: { mark: "○", words: "Possibly the cause", tone: "border-base-300" },
};

/** Causes lists why, the surest first, each with its evidence and its repair. */
export function Causes({ at, causes }: { at: Place; causes: WhyCause[] }) {
  return (
    <div data-testid="causes">
      {causes.map((c) => {
        const s = sureness[c.sure];
        return (
          <section
            key={`${c.code} ${c.site} ${c.link} ${c.tunnel}`}
            className={`border-l-4 ${s.tone} pl-4 mb-4 max-w-4xl`}
          >
            <h2 className="text-lg leading-snug">
              <span className="text-sm text-secondary font-sans font-normal block">
                {s.mark} {s.words}
              </span>
              {sentence(c.words)}
            </h2>
            <ul className="my-1 text-secondary">
              {c.evidence.map((e) => (
                <li key={e}>· {e}</li>
              ))}
            </ul>
            {c.repair.words ? (
              <p>
                <strong>Repair:</strong> {c.repair.words}{" "}
                {c.repair.where ? (
                  <Link className="link link-primary" to={placeOf(at, c)}>
                    {wordsOf(c)}
                  </Link>
                ) : null}
              </p>
            ) : null}
          </section>
        );
      })}
    </div>
  );
}

/** Where a cause is repaired. */
function placeOf(at: Place, c: WhyCause): string {
  const site = c.repair.site ?? "";
  switch (c.repair.where) {
    case "survey":
      return `${pageOf(at)}/survey?${new URLSearchParams(site ? { site } : {})}`;
    case "release":
      return `${pageOf(at)}/release?view=plan`;
    case "watch":
      return `${pageOf(at)}/watch/${site}`;
    default:
      return `${pageOf(at)}/shape${c.rule ? `?${new URLSearchParams({ view: "policy", overlay: c.overlay ?? "" })}` : ""}`;
  }
}

function wordsOf(c: WhyCause): string {
  switch (c.repair.where) {
    case "survey":
      return c.repair.site ? `${c.repair.site} in Survey` : "Survey";
    case "release":
      return "Release";
    case "watch":
      return `the gateway of ${c.repair.site}`;
    default:
      return c.rule ? "the policy" : "Shape";
  }
}

const sentence = (words: string) => words.charAt(0).toUpperCase() + words.slice(1);
