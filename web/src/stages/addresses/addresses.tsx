import { usePlace } from "../../api/place";
import { useFindings } from "../../api/queries";
import { FindingList } from "../../parts/findings";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** Addresses lists what collides, and every other finding, each with its way out. */
export default function Addresses() {
  const at = usePlace();
  const findings = useFindings(at);
  const here = (findings.data ?? []).filter((f) => f.stage === "addresses");
  const elsewhere = (findings.data ?? []).filter((f) => f.stage !== "addresses");
  return (
    <div className="pb-10">
      <StageHead title="Addresses">
        Which subnets and pools collide, and what is the way out of each?
      </StageHead>
      <div className="px-6">
        <Trouble error={findings.error} />
        {findings.isPending ? <Waiting what="the findings" /> : null}
        {findings.data ? (
          <>
            <FindingList
              at={at}
              findings={here}
              none="No two subnets that can reach each other overlap, and no transit pool meets anything."
            />
            {elsewhere.length > 0 ? (
              <>
                <h2 className="text-lg mt-8 mb-1">Findings of the other stages</h2>
                <FindingList at={at} findings={elsewhere} none="" />
              </>
            ) : null}
          </>
        ) : null}
      </div>
    </div>
  );
}
