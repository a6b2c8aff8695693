import { usePlace } from "../../api/place";
import { useEstate, useWeighing } from "../../api/queries";
import { Changes } from "../../parts/changes";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { CatchUp } from "./catch-up";
import { ReleaseForm } from "./form";
import { Steps } from "./steps";

/** Release shows the draft against the release in force, and puts it in force. */
export default function Release() {
  const at = usePlace();
  const head = useEstate(at).data;
  const weighing = useWeighing(at);
  return (
    <>
      <StageHead title="Release">What does this draft change, for whom, and may it go?</StageHead>
      <div className="px-6 pb-8">
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
      </div>
    </>
  );
}
