import { createContext, type ReactNode, useContext, useMemo, useState } from "react";
import type { Repair } from "../api/client";
import type { Place } from "../api/place";
import { useRepairAll, useWeighRepairs } from "../api/queries";
import { Consequences } from "./consequences";
import { usePress } from "./press";
import { Trouble } from "./trouble";

interface Basket {
  /** The repair chosen for each finding, by the finding's ID. */
  chosen: Record<string, Repair>;
  choose: (finding: string, repair?: Repair) => void;
}

const Chosen = createContext<Basket>({ chosen: {}, choose: () => {} });

export const useChosen = () => useContext(Chosen);

/**
 * Repairs keeps which repair was chosen for which finding. What they would
 * change together is shown before anything is done; then they are one edit.
 */
export function Repairs({ at, children }: { at: Place; children: ReactNode }) {
  const [chosen, setChosen] = useState<Record<string, Repair>>({});
  const list = useMemo(() => Object.values(chosen), [chosen]);
  const weighed = useWeighRepairs(at, list);
  const apply = useRepairAll(at);
  const applyAll = () => apply.mutate(list, { onSuccess: () => setChosen({}) });
  usePress((e) => {
    if (e.key === "Enter" && (e.ctrlKey || e.metaKey) && list.length > 0 && !apply.isPending) {
      e.preventDefault();
      applyAll();
    }
  });
  const basket = useMemo(
    () => ({
      chosen,
      choose: (finding: string, repair?: Repair) =>
        setChosen((before) => {
          const next = { ...before };
          delete next[finding];
          return repair ? { ...next, [finding]: repair } : next;
        }),
    }),
    [chosen],
  );
  return (
    <Chosen.Provider value={basket}>
      {children}
      {list.length > 0 ? (
        <section
          aria-label="Chosen repairs"
          className="sticky bottom-0 border border-base-content bg-base-200 px-4 py-2 flex flex-wrap gap-x-4 gap-y-1 items-center"
        >
          <span className="whitespace-nowrap font-semibold">
            {list.length === 1 ? "1 repair chosen" : `${list.length} repairs chosen`}
          </span>
          <span className="min-w-48 grow basis-60" aria-live="polite" data-testid="weighed">
            {weighed.data ? (
              <Consequences tally={weighed.data} />
            ) : weighed.isFetching ? (
              "Working out what they change …"
            ) : null}
            <Trouble error={weighed.error ?? apply.error} />
          </span>
          <button type="button" className="btn btn-sm" onClick={() => setChosen({})}>
            Clear
          </button>
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={apply.isPending}
            onClick={applyAll}
            title="Ctrl+Enter"
          >
            {list.length === 1 ? "Apply 1 repair" : `Apply ${list.length} repairs`}
          </button>
        </section>
      ) : null}
    </Chosen.Provider>
  );
}
