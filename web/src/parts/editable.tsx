import type { ReactNode } from "react";
import { type Place, usePlace } from "../api/place";
import { useEstate, useMayEdit } from "../api/queries";

/** Editable holds controls that edit. Those who may not edit see them and cannot use them. */
export function Editable({ children }: { children: ReactNode }) {
  const at: Place = usePlace();
  const known = useEstate(at).data !== undefined;
  const may = useMayEdit(at);
  return (
    <fieldset className="contents" disabled={known && !may}>
      {children}
    </fieldset>
  );
}
