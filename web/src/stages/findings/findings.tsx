import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { usePlace } from "../../api/place";
import { useFindings } from "../../api/queries";
import { FindingList } from "../../parts/findings";
import { Repairs } from "../../parts/repairs";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

const shown = ["error", "warning", "note"] as const;

/** Findings lists all that is wrong or risky, to be worked through. */
export default function Findings() {
  const at = usePlace();
  const findings = useFindings(at);
  const [params, setParams] = useSearchParams();
  const id = params.get("id") ?? "";
  const severity = params.get("severity") ?? "";
  const list = (findings.data ?? []).filter((f) => !severity || f.severity === severity);
  const ready = findings.data !== undefined;
  useEffect(() => {
    if (ready) {
      document
        .querySelector<HTMLElement>(id ? `[data-finding="${CSS.escape(id)}"]` : "[data-finding]")
        ?.focus();
    }
  }, [id, ready]);
  // When the finding that had the focus is fixed, the next one takes it.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list is the trigger
  useEffect(() => {
    if (document.activeElement === document.body) {
      document.querySelector<HTMLElement>("[data-finding]")?.focus();
    }
  }, [findings.data]);
  return (
    <div className="pb-10">
      <StageHead
        title="Findings"
        actions={
          <select
            className="cell w-40"
            aria-label="Show"
            value={severity}
            onChange={(e) => setParams(e.target.value ? { severity: e.target.value } : {}, { replace: true })}
          >
            <option value="">all severities</option>
            {shown.map((s) => (
              <option key={s} value={s}>
                {s}s only
              </option>
            ))}
          </select>
        }
      >
        What is wrong or risky, why does it matter, and what is the way out? ↑ ↓ move, digits choose a repair,
        Ctrl+Enter carries out what was chosen, Enter goes to the place.
      </StageHead>
      <div className="px-6">
        <Trouble error={findings.error} />
        {findings.isPending ? <Waiting what="the findings" /> : null}
        {ready ? (
          <Repairs at={at}>
            <FindingList at={at} findings={list} none="No findings." />
          </Repairs>
        ) : null}
      </div>
    </div>
  );
}
