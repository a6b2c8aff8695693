import { Link, useParams, useSearchParams } from "react-router";
import type { SitePlan } from "../../api/client";
import { useSitePlan } from "../../api/paths";
import { pageOf, usePlace } from "../../api/place";
import { StageHead } from "../../parts/stage-head";
import { Tabs } from "../../parts/tabs";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { BeforeAfter } from "./before-after";
import { Configuration } from "./configuration";
import { Routes } from "./routes";
import { Tunnels } from "./tunnels";

const views = ["tunnels", "routes", "changes", "configuration"] as const;

/** SitePage is everything that follows from the design for one site. */
export default function SitePage() {
  const at = usePlace();
  const { site = "" } = useParams();
  const plan = useSitePlan(at, site);
  const [params, setParams] = useSearchParams();
  const view = views.find((v) => v === params.get("view")) ?? "tunnels";
  const count = (p: SitePlan) => ({
    tunnels: p.tunnels.length,
    routes: p.routes.length,
    changes: "",
    configuration: p.files.length,
  });
  return (
    <div className="pb-10">
      <StageHead
        title={plan.data?.name ?? site}
        actions={
          <>
            <Link className="btn btn-sm" to={`${pageOf(at)}/survey?site=${site}`}>
              Edit in Survey
            </Link>
            <Link className="btn btn-sm" to="..">
              All sites
            </Link>
          </>
        }
      >
        <span className="font-mono">{site}</span>
        {plan.data?.public_key ? (
          <>
            {" · public key "}
            <span className="font-mono">{plan.data.public_key}</span>
          </>
        ) : null}
      </StageHead>
      <div className="px-6">
        <Trouble error={plan.error} />
        {plan.isPending ? <Waiting what="the plan" /> : null}
        {plan.data ? (
          <Tabs
            label="Views of the site"
            tabs={views}
            chosen={view}
            onChoose={(v) => setParams({ view: v }, { replace: true })}
            words={(v) => (
              <span className="capitalize">
                {v} <span className="text-secondary font-normal">{count(plan.data)[v]}</span>
              </span>
            )}
            className="flex gap-6 border-b border-base-content mb-2"
          >
            {view === "tunnels" ? <Tunnels plan={plan.data} at={at} /> : null}
            {view === "routes" ? <Routes plan={plan.data} at={at} /> : null}
            {view === "changes" ? <BeforeAfter at={at} site={site} /> : null}
            {view === "configuration" ? <Configuration plan={plan.data} at={at} /> : null}
          </Tabs>
        ) : null}
      </div>
    </div>
  );
}
