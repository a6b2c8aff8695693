import type { Place } from "../../api/place";
import { useSteps } from "../../api/queries";
import { When } from "../../parts/when";

/** Steps lists who did what in the draft, the latest first. */
export function Steps({ at }: { at: Place }) {
  const steps = useSteps(at).data ?? [];
  return (
    <details className="border-t border-base-300 py-2 max-w-5xl">
      <summary className="cursor-pointer">
        <span className="font-serif font-semibold text-base">Steps taken</span>{" "}
        <span className="text-secondary">{steps.length === 200 ? "the latest 200" : steps.length}</span>
      </summary>
      <table className="ruled text-[13px] mt-1">
        <tbody>
          {steps.map((s) => (
            <tr key={s.revision}>
              <td className="num w-12">{s.revision}</td>
              <td>
                {s.kind === "edit" ? "" : `${s.kind} of `}
                {s.label}
              </td>
              <td className="font-mono">{s.author}</td>
              <td>
                <When at={s.at} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
