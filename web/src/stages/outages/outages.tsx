import { useSearchParams } from "react-router";
import { apiOf, usePlace } from "../../api/place";
import { StageHead } from "../../parts/stage-head";
import { Tabs } from "../../parts/tabs";
import { Changes } from "./changes";
import { Failures } from "./failures";
import { Plan } from "./plan";
import { Standing } from "./standing";

const tabs = {
  failures: "Failures",
  standing: "Availability",
  plan: "Order and probes",
  changes: "Compared",
} as const;
type Tab = keyof typeof tabs;

/** Outages asks what dies with what, who stands in, and what to change. */
export default function Outages() {
  const at = usePlace();
  const [params, setParams] = useSearchParams();
  const view = (params.get("view") ?? "failures") as Tab;
  return (
    <div className="flex flex-col h-full min-h-0">
      <StageHead
        title="Outages"
        actions={
          <>
            <a className="btn btn-sm" href={`${apiOf(at)}/outages/sheet`} download>
              CSV
            </a>
            <a className="btn btn-sm" href={`${apiOf(at)}/outages/report`} download>
              Report
            </a>
          </>
        }
      >
        If this circuit, mast, carrier or gateway fails: who is cut, who moves where, does it fit, how long
        does it take?
      </StageHead>
      <Tabs
        label="Views of outages"
        tabs={Object.keys(tabs) as Tab[]}
        chosen={view}
        onChoose={(v) => setParams(v === "failures" ? {} : { view: v })}
        words={(v) => tabs[v]}
        className="flex gap-6 text-[13px] px-6 mb-2"
        tab="border-b-2 py-0.5"
        panel="grow min-h-0 px-6 overflow-auto"
      >
        {view === "standing" ? (
          <Standing at={at} />
        ) : view === "plan" ? (
          <Plan at={at} />
        ) : view === "changes" ? (
          <Changes at={at} />
        ) : (
          <Failures at={at} />
        )}
      </Tabs>
    </div>
  );
}
