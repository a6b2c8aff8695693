import type { RolloutDetail, RolloutPlan, RolloutRound } from "../../api/client";
import { count, many } from "../../parts/number";

const steps = ["", "accepts more", "sends anew", "as released"];

/** Where a round stands: done, the present one, or to come. */
function standing(r: number, run?: RolloutDetail) {
  if (!run) {
    return "";
  }
  if (run.state === "done" || r < run.round) {
    return "done";
  }
  return r === run.round ? "now" : "to come";
}

/**
 * Rounds is the time line of a rollout: what each round changes, and whom it cuts or moves
 * meanwhile. With a run, how far that is.
 */
export function Rounds({ plan, run }: { plan: RolloutPlan; run?: RolloutDetail }) {
  return (
    <ol className="max-w-5xl" data-testid="rounds">
      {plan.rounds.map((round, r) => {
        const stands = standing(r, run);
        return (
          <li
            key={round.name}
            data-round={r + 1}
            aria-current={stands === "now" ? "step" : undefined}
            className={`grid grid-cols-[34px_minmax(140px,1fr)_minmax(240px,2.4fr)_minmax(220px,1.8fr)] gap-x-4 py-1.5 border-b border-base-300 border-l-4 pl-2 ${
              stands === "now" ? "border-l-primary bg-base-200" : "border-l-transparent"
            } ${stands === "done" ? "text-secondary" : ""}`}
          >
            <span className="text-right tabular-nums">{r + 1}</span>
            <span>
              <span className="font-semibold">{round.name}</span>
              <span className="block text-xs text-secondary">
                {steps[round.stage]}
                {stands === "done" ? ", ✓ proven" : ""}
              </span>
            </span>
            <Sites sites={round.sites} />
            <Meanwhile plan={plan} round={round} />
          </li>
        );
      })}
    </ol>
  );
}

/** The first sites by name, and how many more. */
function Sites({ sites }: { sites: string[] }) {
  const shown = sites.slice(0, 8);
  return (
    <span className="min-w-0">
      <span className="font-mono text-[13px] break-words">{shown.join(" ")}</span>
      {sites.length > shown.length ? (
        <details className="text-xs">
          <summary className="cursor-pointer">and {count(sites.length - shown.length)} more</summary>
          <span className="font-mono break-words">{sites.slice(8).join(" ")}</span>
        </details>
      ) : null}
    </span>
  );
}

/** What a round does to pairs of sites. */
function Meanwhile({ plan, round }: { plan: RolloutPlan; round: RolloutRound }) {
  if (round.cut === 0) {
    return (
      <span>
        ✓ cuts nobody
        {round.moved > 0 ? (
          <span className="block text-xs text-secondary">
            {many(round.moved, "pair goes", "pairs go")} another way after it
          </span>
        ) : null}
      </span>
    );
  }
  return (
    <span className="text-error">
      ■ {many(round.cut, "pair is", "pairs are")} cut
      <details className="text-xs text-base-content">
        <summary className="cursor-pointer">who, and until when</summary>
        <ul className="max-h-48 overflow-auto">
          {round.some.map((c) => (
            <li key={`${c.from} ${c.to}`}>
              <span className="font-mono">
                {c.from} → {c.to}
              </span>{" "}
              ends at <span className="font-mono">{c.where}</span>,{" "}
              {c.passing
                ? c.seconds > 0
                  ? `up to ${c.seconds} s, until that gateway finds a tunnel dead`
                  : "while gateways of the round change one after the other"
                : `until round ${Math.min(c.until, plan.rounds.length - 1) + 1} is done`}
            </li>
          ))}
        </ul>
      </details>
    </span>
  );
}
