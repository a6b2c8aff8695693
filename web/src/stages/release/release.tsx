import { type Place, usePlace } from "../../api/place";
import { useEstate, useWeighing } from "../../api/queries";
import { isOnItsWay, useRollout, useRollouts } from "../../api/rollouts";
import { useAddress } from "../../parts/address";
import { Changes } from "../../parts/changes";
import { StageHead } from "../../parts/stage-head";
import { Tabs } from "../../parts/tabs";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { CatchUp } from "./catch-up";
import { ReleaseForm } from "./form";
import { History } from "./history";
import { Plan } from "./plan";
import { Proof } from "./proof";
import { Run } from "./run";
import { Steps } from "./steps";

const views = ["changes", "plan", "run", "proof"] as const;
type View = (typeof views)[number];
const names: Record<View, string> = {
  changes: "What changes",
  plan: "The plan",
  run: "The run",
  proof: "The proof",
};

/**
 * Release shows the draft against the release in force, and puts it in force; and how what is
 * in force is brought to the gateways, how far that is, and what was seen of it.
 */
export default function Release() {
  const at = usePlace();
  const head = useEstate(at).data;
  const [params, set] = useAddress();
  const rollouts = useRollouts(at.estate);
  const list = rollouts.data ?? [];
  const number = Number(params.get("rollout")) || list[0]?.number || 0;
  const run = useRollout(at.estate, number);
  const view = views.find((v) => v === params.get("view")) ?? "changes";
  const going = list.find(isOnItsWay);
  return (
    <>
      <StageHead title="Release">
        What does this draft change, for whom, and may it go? Whom does it cut on its way to the gateways?
      </StageHead>
      <div className="px-6 pb-8">
        <Tabs
          label="Views of the release"
          tabs={views}
          chosen={view}
          onChoose={(v) => set({ view: v === "changes" ? "" : v })}
          words={(v) => (v === "run" && going ? `${names[v]} ◐` : names[v])}
        >
          {view === "changes" ? <WhatChanges at={at} /> : null}
          {view === "plan" && head ? (
            <Plan
              at={at}
              latest={head.release}
              role={head.role}
              onStart={() => set({ view: "run", rollout: "" })}
            />
          ) : null}
          {view === "run" || view === "proof" ? (
            <>
              <Trouble error={rollouts.error ?? run.error} />
              {number === 0 && rollouts.data ? (
                <p className="py-2">
                  Nothing was brought to the gateways from here yet. The plan says how it would be.
                </p>
              ) : null}
              {number > 0 && run.isPending ? <Waiting what="the rollout" /> : null}
              {run.data && view === "run" ? <Run at={at} run={run.data} role={head?.role ?? ""} /> : null}
              {run.data && view === "proof" ? <Proof at={at} run={run.data} /> : null}
            </>
          ) : null}
        </Tabs>
        {view !== "changes" ? (
          <History
            estate={at.estate}
            rollouts={list}
            chosen={number}
            onChoose={(n) => set({ view: "run", rollout: String(n) })}
          />
        ) : null}
      </div>
    </>
  );
}

/** What the draft changes against the release in force, and the form that puts it in force. */
function WhatChanges({ at }: { at: Place }) {
  const head = useEstate(at).data;
  const weighing = useWeighing(at);
  return (
    <>
      <Trouble error={weighing.error} />
      {head && !head.fixed && head.base < head.release ? <CatchUp at={at} head={head} /> : null}
      {head && !head.fixed && head.base === head.release && weighing.data ? (
        <ReleaseForm at={at} head={head} tally={weighing.data} />
      ) : null}
      {weighing.isPending ? <Waiting what="what the draft changes" /> : null}
      {weighing.data && head ? (
        <section className="max-w-5xl">
          <h2 className="text-lg">
            {head.fixed
              ? "As released"
              : `Against ${head.base ? `release ${head.base}` : "the empty estate"}`}
          </h2>
          <Changes changes={weighing.data.changes} />
        </section>
      ) : null}
      {head && !head.fixed ? <Steps at={at} /> : null}
    </>
  );
}
