import { useState } from "react";
import type { RolloutPlan, RolloutWave } from "../../api/client";
import { useGateways } from "../../api/gateways";
import type { Place } from "../../api/place";
import { useReleases } from "../../api/queries";
import {
  isOnItsWay,
  type PlannedOrder,
  useRolloutPlan,
  useRollouts,
  useStartRollout,
} from "../../api/rollouts";
import { useAddress } from "../../parts/address";
import { Field } from "../../parts/field";
import { count, many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { Rounds } from "./rounds";

/**
 * Plan says in which rounds a release would be brought to gateways, the one in force or, to go
 * back, an older one: where it begins and why, whom each round cuts or moves meanwhile; and
 * begins it.
 */
export function Plan({
  at,
  latest,
  role,
  onStart,
}: {
  at: Place;
  latest: number;
  role: string;
  onStart: () => void;
}) {
  const may = role !== "reader";
  const [params, set] = useAddress();
  const releases = (useReleases(at.estate).data ?? []).filter((r) => r.number > 0);
  const release = Number(params.get("of")) || latest;
  const [waves, setWaves] = useState<RolloutWave[]>();
  const [text, setText] = useState<string>(); // of waves that somebody writes
  const before = (useRollouts(at.estate).data ?? []).find(isOnItsWay);
  const instead = before !== undefined && (before.state === "waiting" || before.state === "stopped");
  const plan = useRolloutPlan(at.estate, { release, waves, instead }, may);
  const behind = (useGateways(at.estate).data?.gateways ?? []).some(
    (g) => !g.barred_at && g.confirmed > 0 && g.confirmed !== release,
  );
  if (latest === 0) {
    return <p className="py-2">Nothing is released yet. Put a draft in force first.</p>;
  }
  if (!may) {
    return <p className="py-2">You are a reader of this estate; a planner can plan a rollout.</p>;
  }
  const p = plan.data;
  return (
    <>
      <div className="flex items-baseline gap-4 mb-1">
        <h2 className="text-lg">Release {release} to the gateways</h2>
        {releases.length > 1 ? (
          <select
            className="cell w-auto"
            aria-label="Release that is planned"
            value={release}
            onChange={(e) => set({ of: Number(e.target.value) === latest ? "" : e.target.value })}
          >
            {releases.map((r) => (
              <option key={r.number} value={r.number}>
                {r.number === latest ? "in force" : "back to"}: release {r.number}, {r.message.slice(0, 40)}
              </option>
            ))}
          </select>
        ) : null}
      </div>
      {plan.isPending ? <Waiting what="each state on the way" /> : null}
      <Trouble error={plan.error} />
      {p && before && instead ? (
        <p className="text-warning max-w-3xl mb-1">
          ▲ It takes the place of rollout {before.number}, which ends as far as it came: release{" "}
          {before.release} stays where it is confirmed until this one changes it.
        </p>
      ) : null}
      {p ? <Sum plan={p} /> : null}
      {p && p.rounds.length > 0 ? <Rounds plan={p} /> : null}
      {(p && p.rounds.length > 0) || text !== undefined ? (
        <Waves
          text={text ?? (p ? textOf(p) : "")}
          own={waves !== undefined}
          onText={setText}
          onChoose={(chosen) => {
            setWaves(chosen);
            if (!chosen) {
              setText(undefined);
            }
          }}
        />
      ) : null}
      {p && (p.rounds.length > 0 || behind) && (role === "operator" || role === "owner") ? (
        <Start estate={at.estate} order={{ release, waves, instead }} plan={p} onStart={onStart} />
      ) : null}
    </>
  );
}

/** The plan in a few sentences: how many change, where it begins, what is cut. */
function Sum({ plan }: { plan: RolloutPlan }) {
  const changing = new Set(plan.rounds.flatMap((r) => r.sites)).size;
  const why = plan.waves[0]?.why;
  return (
    <div className="max-w-3xl mb-2" data-testid="plan-sum">
      <p>
        {changing === 0
          ? "No gateway has anything to change."
          : `${many(changing, "gateway changes", "gateways change")} in ${many(plan.rounds.length, "round")}; ${count(plan.unchanged)} ${plan.unchanged === 1 ? "stays" : "stay"} as they are.`}{" "}
        {changing === 0 ? null : plan.cut === 0 ? (
          <strong>Nobody is cut meanwhile.</strong>
        ) : (
          <strong className="text-error">■ {many(plan.cut, "pair is", "pairs are")} cut meanwhile.</strong>
        )}
      </p>
      {plan.two_steps ? (
        <p>
          In two steps: all gateways accept old and new first, then send anew, then accept less.
          {plan.straight > plan.cut ? ` In one step ${many(plan.straight, "pair")} would be cut.` : ""}
        </p>
      ) : null}
      {why ? <p className="text-secondary">It begins with one: {why}.</p> : null}
      {plan.ends > 0 || plan.begins > 0 ? (
        <p className="text-secondary">
          By the release itself {many(plan.ends, "pair ends", "pairs end")} and{" "}
          {many(plan.begins, "begins", "begin")}.
        </p>
      ) : null}
      {plan.lines.length > 0 ? (
        <p className="text-error" data-testid="plan-lines">
          ■ {many(plan.lines.length, "gateway", "gateways")} would call this server through a tunnel once{" "}
          {plan.lines.length === 1 ? "it has" : "they have"} this release, and may lose the line by it. What
          nobody confirms goes back by itself:{" "}
          <span className="font-mono text-[13px]">{plan.lines.slice(0, 8).join(" ")}</span>
          {plan.lines.length > 8 ? ` and ${plan.lines.length - 8} more` : ""}
        </p>
      ) : null}
      {plan.fixed.length > 0 ? (
        <p className="text-warning">
          ▲ No gateway has joined for {many(plan.fixed.length, "site")}: taken to stay as before:{" "}
          <span className="font-mono text-[13px]">{plan.fixed.slice(0, 8).join(" ")}</span>
          {plan.fixed.length > 8 ? ` and ${plan.fixed.length - 8} more` : ""}
        </p>
      ) : null}
      <p className="text-xs text-secondary">
        {plan.followed < plan.of
          ? `Worked out for ${count(plan.followed)} of ${count(plan.of)} pairs of hosts, spread evenly.`
          : `Worked out for all ${count(plan.of)} pairs of hosts, in both directions.`}
      </p>
    </div>
  );
}

/** The waves of a plan as text, one a line. */
const textOf = (plan: RolloutPlan) => plan.waves.map((w) => `${w.name}: ${w.sites.join(" ")}`).join("\n");

/** Waves as text, for who wants other ones. */
function Waves({
  text,
  own,
  onText,
  onChoose,
}: {
  text: string;
  own: boolean;
  onText: (text: string) => void;
  onChoose: (waves?: RolloutWave[]) => void;
}) {
  const waves = text
    .split("\n")
    .filter((line) => line.trim())
    .map((line, i) => {
      const [name, sites] = line.includes(":")
        ? [line.split(":")[0], line.split(":").slice(1).join(":")]
        : ["", line];
      return { name: name?.trim() || `wave ${i + 1}`, sites: (sites ?? "").split(/[\s,]+/).filter(Boolean) };
    });
  const empty = waves.find((w) => w.sites.length === 0);
  return (
    <details className="max-w-5xl mt-2" data-testid="waves">
      <summary className="cursor-pointer text-[13px]">Change the waves</summary>
      <Field
        label="One wave a line: its name, a colon, its sites"
        error={empty ? `${empty.name} has no sites` : undefined}
      >
        {(aria) => (
          <textarea
            {...aria}
            className="cell font-mono text-[13px] h-36"
            value={text}
            onChange={(e) => onText(e.target.value)}
          />
        )}
      </Field>
      <div className="flex gap-2 mt-1">
        <button
          type="button"
          className="btn btn-sm"
          disabled={empty !== undefined || waves.length === 0}
          onClick={() => onChoose(waves)}
        >
          Plan these waves
        </button>
        {own ? (
          <button type="button" className="btn btn-sm" onClick={() => onChoose(undefined)}>
            Back to the usual waves
          </button>
        ) : null}
      </div>
    </details>
  );
}

function Start({
  estate,
  order,
  plan,
  onStart,
}: {
  estate: string;
  order: PlannedOrder;
  plan: RolloutPlan;
  onStart: () => void;
}) {
  const [soak, setSoak] = useState("30");
  const [away, setAway] = useState("0");
  const [byHand, setByHand] = useState(false);
  const [hours, setHours] = useState({ from: "", to: "" });
  const start = useStartRollout(estate);
  const whole = (text: string) => /^\d{1,5}$/.test(text);
  const clock = (text: string) => /^(([01]\d|2[0-3]):[0-5]\d)?$/.test(text);
  const ready =
    whole(soak) &&
    whole(away) &&
    clock(hours.from) &&
    clock(hours.to) &&
    (hours.from === "") === (hours.to === "");
  return (
    <form
      className="flex flex-wrap gap-4 items-end mt-4 max-w-5xl"
      onSubmit={(e) => {
        e.preventDefault();
        start.mutate(
          {
            ...order,
            soak_s: Number(soak),
            away: Number(away),
            by_hand: byHand,
            without_away: false,
            ...(hours.from ? hours : {}),
          },
          { onSuccess: onStart },
        );
      }}
    >
      <Field label="Watch each round for, s" error={whole(soak) ? undefined : "whole seconds"}>
        {(aria) => (
          <input {...aria} className="cell w-24" value={soak} onChange={(e) => setSoak(e.target.value)} />
        )}
      </Field>
      <Field label="May be away" error={whole(away) ? undefined : "a number"}>
        {(aria) => (
          <input {...aria} className="cell w-24" value={away} onChange={(e) => setAway(e.target.value)} />
        )}
      </Field>
      {(["from", "to"] as const).map((side) => (
        <Field
          key={side}
          label={side === "from" ? "Rounds begin from, UTC" : "until, UTC"}
          error={clock(hours[side]) ? undefined : "as 22:30"}
        >
          {(aria) => (
            <input
              {...aria}
              className="cell w-24"
              placeholder="any time"
              value={hours[side]}
              onChange={(e) => setHours({ ...hours, [side]: e.target.value })}
            />
          )}
        </Field>
      ))}
      <label className="flex gap-2 items-center pb-1">
        <input type="checkbox" checked={byHand} onChange={(e) => setByHand(e.target.checked)} />I let each
        round begin
      </label>
      <button type="submit" className="btn btn-sm btn-primary" disabled={!ready || start.isPending}>
        {plan.cut > 0
          ? `Begin, and cut ${many(plan.cut, "pair")} meanwhile`
          : `Bring release ${order.release} to the gateways`}
      </button>
      <div className="basis-full">
        <Trouble error={start.error} />
      </div>
    </form>
  );
}
