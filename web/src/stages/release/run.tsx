import { Link } from "react-router";
import type { RolloutDetail, RolloutGateway } from "../../api/client";
import { type Place, pageOf } from "../../api/place";
import { isOnItsWay, useDecide } from "../../api/rollouts";
import { count, many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { When } from "../../parts/when";
import { Rounds } from "./rounds";

/** How a gateway stands in a rollout: a shape, a tone and an order, worst first. */
const states: Record<RolloutGateway["state"], { shape: string; tone: string; words: string; order: number }> =
  {
    failed: { shape: "■", tone: "text-error", words: "refused it", order: 0 },
    "went-back": { shape: "↩", tone: "text-error", words: "went back", order: 1 },
    away: { shape: "▲", tone: "text-warning", words: "away", order: 2 },
    bringing: { shape: "◐", tone: "text-primary", words: "is being brought there", order: 3 },
    waiting: { shape: "○", tone: "text-secondary", words: "not yet", order: 4 },
    confirmed: { shape: "●", tone: "", words: "confirmed", order: 5 },
  };

const heads: Record<RolloutDetail["state"], string> = {
  running: "goes on",
  waiting: "waits for a person",
  stopped: "stopped by itself",
  back: "is being taken back",
  done: "is done",
  undone: "was taken back wholly",
  left: "ended on the way",
};

const phases: Record<RolloutDetail["phase"], string> = {
  "": "begins",
  bringing: "gateways try it and confirm",
  proving: "tunnels and ways are compared with what is expected",
  asking: "gateways ask each other from LAN to LAN, and what they hear is compared with what is expected",
  soaking: "it is watched before the next round begins",
};

/**
 * Run answers at one look: how far is it, is anything worse than predicted, what happens if I
 * stop now.
 */
export function Run({ at, run, role }: { at: Place; run: RolloutDetail; role: string }) {
  const rounds = run.plan.rounds;
  const bad = run.state === "stopped";
  const present = rounds[run.round];
  return (
    <>
      <section
        className={`border-l-4 px-3 py-2 mb-3 bg-base-200 max-w-5xl ${bad ? "border-error" : "border-primary"}`}
        role="status"
        data-testid="run-head"
      >
        <h2 className="text-lg">
          {bad ? "■ " : ""}Release {run.release} {heads[run.state]}
          {isOnItsWay(run) && present ? `: round ${run.round + 1} of ${rounds.length}, ${present.name}` : ""}
        </h2>
        {run.words ? <p className={bad ? "text-error" : ""}>{run.words}</p> : null}
        {run.state === "running" || run.state === "back" ? (
          <p className="text-secondary">{phases[run.phase]}</p>
        ) : null}
        <p>
          {run.proof.at ? (
            run.proof.missing > 0 ? (
              <span className="text-error">
                ■ {many(run.proof.missing, "thing is", "things are")} not as expected
              </span>
            ) : (
              "✓ Nothing is worse than predicted"
            )
          ) : (
            "Nothing is proven yet"
          )}
        </p>
      </section>
      {isOnItsWay(run) && (role === "operator" || role === "owner") ? (
        <Decisions estate={at.estate} run={run} />
      ) : null}
      <Marks at={at} gateways={run.gateways} />
      <h3 className="font-semibold mt-4 mb-1">Rounds</h3>
      <Rounds plan={run.plan} run={run} />
      <h3 className="font-semibold mt-4 mb-1">What happened</h3>
      <ol className="max-w-5xl text-[13px]" data-testid="run-notes">
        {run.notes.toReversed().map((n) => (
          <li key={n.at + n.words} className="grid grid-cols-[130px_minmax(0,1fr)] gap-x-3 py-0.5">
            <span className="text-secondary">
              <When at={n.at} />
            </span>
            <span className="break-words">{n.words}</span>
          </li>
        ))}
      </ol>
    </>
  );
}

/** What a person can do now, each with what follows from it. */
function Decisions({ estate, run }: { estate: string; run: RolloutDetail }) {
  const decide = useDecide(estate, run.number);
  const done = run.gateways.filter((g) => g.state === "confirmed").length;
  const round = run.plan.rounds[run.round];
  const lasting = round?.some.filter((c) => !c.passing).length ?? 0;
  const mixed =
    lasting > 0
      ? `${many(lasting, "pair stays", "pairs stay")} cut until then`
      : "nobody is cut while it waits";
  const held = run.state === "waiting" && run.words.includes("away");
  return (
    <div className="flex flex-wrap gap-x-8 gap-y-2 mb-3" data-testid="decisions">
      {run.state === "waiting" || run.state === "stopped" ? (
        <Decision
          words={run.state === "stopped" ? "Try again, and go on" : held ? "Go on without them" : "Go on"}
          follows={
            held
              ? "what they may still use is taken away: they are cut until they are brought on"
              : round && round.cut > 0
                ? `${many(round.cut, "pair is", "pairs are")} cut in the round`
                : "cuts nobody"
          }
          primary
          pending={decide.isPending}
          onClick={() => decide.mutate({ do: "go-on", without_away: held })}
        />
      ) : null}
      {run.state === "stopped" && run.proof.missing > 0 && run.phase !== "bringing" ? (
        <Decision
          words="Accept it, and go on"
          follows={`${many(run.proof.missing, "thing that is", "things that are")} not as expected ${run.proof.missing === 1 ? "is" : "are"} not asked for again in this rollout`}
          pending={decide.isPending}
          onClick={() => decide.mutate({ do: "accept" })}
        />
      ) : null}
      {run.state === "running" ? (
        <Decision
          words="Wait here"
          follows={`${many(done, "gateway keeps", "gateways keep")} what ${done === 1 ? "it has" : "they have"} confirmed; ${mixed}`}
          pending={decide.isPending}
          onClick={() => decide.mutate({ do: "wait" })}
        />
      ) : null}
      {run.state !== "back" ? (
        <Decision
          words="Take it back"
          follows={`${many(run.round + 1, "round is", "rounds are")} walked backwards, by the same states; gateways keep the former release, so nothing is transferred`}
          pending={decide.isPending}
          onClick={() => decide.mutate({ do: "back" })}
        />
      ) : null}
      <div className="basis-full">
        <Trouble error={decide.error} />
      </div>
    </div>
  );
}

function Decision(props: {
  words: string;
  follows: string;
  primary?: boolean;
  pending: boolean;
  onClick: () => void;
}) {
  return (
    <span className="max-w-sm">
      <button
        type="button"
        className={`btn btn-sm ${props.primary ? "btn-primary" : ""}`}
        disabled={props.pending}
        onClick={props.onClick}
      >
        {props.words}
      </button>
      <span className="block text-xs text-secondary mt-0.5">{props.follows}</span>
    </span>
  );
}

/** Every gateway as a small mark whose shape is its state, worst first; what failed in its own words. */
function Marks({ at, gateways }: { at: Place; gateways: RolloutGateway[] }) {
  const sorted = gateways.toSorted(
    (a, b) => states[a.state].order - states[b.state].order || (a.site < b.site ? -1 : 1),
  );
  const tally = new Map<RolloutGateway["state"], number>();
  for (const g of sorted) {
    tally.set(g.state, (tally.get(g.state) ?? 0) + 1);
  }
  const failed = sorted.filter((g) => (g.state === "failed" || g.state === "went-back") && g.words);
  return (
    <section aria-label="Gateways of this rollout">
      <p className="mb-1">
        {[...tally].map(([state, n]) => (
          <span key={state} className={`mr-5 ${states[state].tone}`}>
            <span aria-hidden="true">{states[state].shape}</span> {count(n)} {states[state].words}
          </span>
        ))}
      </p>
      <ul className="flex flex-wrap gap-x-1 leading-5 max-w-5xl" data-testid="run-marks">
        {sorted.map((g) => (
          <li key={g.site}>
            <Link
              to={`${pageOf(at)}/watch/${g.site}`}
              className={`inline-block w-4 text-center ${states[g.state].tone}`}
              title={`${g.site}: ${states[g.state].words}${g.words ? `: ${g.words}` : ""}`}
              aria-label={`${g.site}: ${states[g.state].words}`}
            >
              {states[g.state].shape}
            </Link>
          </li>
        ))}
      </ul>
      <ul className="mt-1 max-w-5xl">
        {failed.map((g) => (
          <li key={g.site} className="text-error break-words">
            ■ <span className="font-mono">{g.site}</span> {g.words}
          </li>
        ))}
      </ul>
    </section>
  );
}
