import { Link } from "react-router";
import type { WhyAnswer, WhyStep } from "../../api/client";
import { type Place, pageOf } from "../../api/place";
import { When } from "../../parts/when";
import { agoText } from "./figures";

const marks: Record<WhyStep["verdict"], { mark: string; word: string; tone: string }> = {
  arrives: { mark: "✓", word: "well", tone: "" },
  standby: { mark: "▲", word: "standby", tone: "text-warning" },
  poor: { mark: "▲", word: "poor", tone: "text-warning" },
  fails: { mark: "■", word: "fails", tone: "text-error" },
  refused: { mark: "■", word: "refused", tone: "text-error" },
  unseen: { mark: "○", word: "not seen", tone: "text-secondary" },
};

/** PathSteps is the way of a packet, or of its answer, step by step as both sides see it. */
export function PathSteps({ at, answer, back }: { at: Place; answer: WhyAnswer; back: boolean }) {
  const steps = answer.steps.map((step, i) => ({ step, i })).filter(({ step }) => step.back === back);
  if (steps.length === 0) {
    return null;
  }
  return (
    <section className="mb-4" aria-label={back ? "Return path" : "Forward path"}>
      <h2 className="text-lg">{back ? "Return path" : "Forward path"}</h2>
      <ol className="border-t border-base-content" data-testid={back ? "steps-back" : "steps-there"}>
        {steps.map(({ step, i }) => (
          <li
            key={i}
            className={`grid grid-cols-[5.5rem_minmax(0,1fr)] gap-x-4 py-1.5 border-b border-base-300 ${i === answer.failing ? "bg-base-200" : ""}`}
          >
            <span className={marks[step.verdict].tone}>
              {marks[step.verdict].mark} {marks[step.verdict].word}
            </span>
            <div>
              <p>
                {step.words}
                {step.said ? (
                  <span className={step.verdict === "arrives" ? "text-secondary" : "font-semibold"}>
                    : {step.said}
                  </span>
                ) : null}
                {i === answer.failing ? (
                  <span className="text-error ml-2">← the first step that fails</span>
                ) : null}
              </p>
              {step.ends ? <Ends at={at} step={step} /> : null}
            </div>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** What both ends of a tunnel see, side by side. */
function Ends({ at, step }: { at: Place; step: WhyStep }) {
  return (
    <div className="grid grid-cols-2 gap-x-8 text-[13px] mt-0.5">
      {(step.ends ?? []).map((e) => (
        <p key={e.site}>
          <Link className="link" to={`${pageOf(at)}/watch/${e.site}`}>
            {e.site}
          </Link>{" "}
          <span className="font-mono">{e.interface}</span>{" "}
          {!e.seen ? (
            "○ reports nothing of it"
          ) : (
            <>
              {e.up ? "up" : <strong className="text-error">dead</strong>}
              {e.since ? (
                <>
                  {" "}
                  since <When at={e.since} />
                </>
              ) : null}
              , handshake {agoText(e.handshake_s)}
              {e.endpoint ? (
                <>
                  , far end at <span className="font-mono">{e.endpoint}</span>
                </>
              ) : null}
              {e.up && e.latency_us > 0
                ? `, ${(e.latency_us / 1000).toFixed(1)} ms, loses ${(e.loss_out_ppm / 10_000).toFixed(1)} % out, ${(e.loss_back_ppm / 10_000).toFixed(1)} % back`
                : ""}
            </>
          )}
        </p>
      ))}
      <p className="col-span-2">
        <Link
          className="link"
          to={`${pageOf(at)}/watch/-/tunnel?${new URLSearchParams({ overlay: step.overlay ?? "", tunnel: step.tunnel ?? "" })}`}
        >
          Both ends
        </Link>
      </p>
    </div>
  );
}
