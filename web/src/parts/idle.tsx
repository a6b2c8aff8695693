import { count } from "./number";

/** Idle says where nothing switches, so that what is counted beside it is understood. */
export function Idle({ sites }: { sites: string[] }) {
  if (sites.length === 0) {
    return null;
  }
  const some = sites.slice(0, 6).join(", ");
  return (
    <p role="note" className="border-l-4 border-error pl-3 py-1 my-2 text-[13px]">
      No automatic failover at {sites.length > 6 ? `${some} and ${count(sites.length - 6)} more` : some}: a
      dead path stays in use there until somebody acts, and is counted so here.
    </p>
  );
}
