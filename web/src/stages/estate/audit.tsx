import { useInfiniteQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { answered, client } from "../../api/client";
import { useCard } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { AuditList } from "../../parts/audit-list";
import { DeskFrame, estateTabs } from "../../parts/desk-frame";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

const families = [
  ["", "everything"],
  ["draft.", "drafts"],
  ["release.", "releases"],
  ["secret.", "secrets"],
  ["people.", "people"],
] as const;

/** Audit lists what was done to an estate: who, when, from where. */
export default function Audit() {
  const { estate = "" } = useParams();
  const card = useCard(estate).data;
  const [params, set] = useAddress();
  const filter: Record<string, string> = {};
  for (const name of ["who", "action", "text"]) {
    const value = params.get(name);
    if (value) {
      filter[name] = value;
    }
  }
  const day = (name: string, plus: number) => {
    const value = params.get(name);
    if (value) {
      const moment = new Date(`${value}T00:00:00`);
      moment.setDate(moment.getDate() + plus);
      filter[name] = moment.toISOString();
    }
  };
  day("since", 0);
  day("until", 1);
  const records = useInfiniteQuery({
    queryKey: ["card", estate, "audit", filter],
    queryFn: ({ pageParam }) =>
      answered(
        client.GET("/api/estates/{estate}/audit", {
          params: { path: { estate }, query: { ...filter, ...(pageParam ? { before: pageParam } : {}) } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === 100 ? last[last.length - 1]?.id : undefined),
  });
  const input = (name: string, label: string, type = "text") => (
    <label className="text-xs text-secondary">
      {label}
      <input
        className="cell text-base-content"
        type={type}
        value={params.get(name) ?? ""}
        onChange={(e) => set({ [name]: e.target.value })}
      />
    </label>
  );
  const query = new URLSearchParams(filter).toString();
  return (
    <DeskFrame
      title={card?.name ?? estate}
      lead="Who did what, when, and from where? Nothing in here can be changed or deleted."
      tabs={estateTabs(estate)}
    >
      <div className="grid grid-cols-[1fr_1fr_1fr_9rem_9rem_auto] gap-3 items-end mb-3">
        {input("who", "Who, full e-mail address")}
        <label className="text-xs text-secondary">
          What
          <select
            className="cell text-base-content"
            value={params.get("action") ?? ""}
            onChange={(e) => set({ action: e.target.value })}
          >
            {families.map(([value, name]) => (
              <option key={value} value={value}>
                {name}
              </option>
            ))}
          </select>
        </label>
        {input("text", "Words of it, or the draft's key")}
        {input("since", "From", "date")}
        {input("until", "To", "date")}
        <span className="flex gap-2">
          <a className="btn btn-sm" href={`/api/estates/${estate}/audit.csv?${query}`} download>
            CSV
          </a>
          <a className="btn btn-sm" href={`/api/estates/${estate}/audit.json?${query}`} download>
            JSON
          </a>
        </span>
      </div>
      <Trouble error={records.error} />
      {records.isPending ? (
        <Waiting what="the audit" />
      ) : (
        <AuditList records={records.data?.pages.flat() ?? []} estate={estate} />
      )}
      {records.hasNextPage ? (
        <button
          type="button"
          className="btn btn-sm mt-3"
          disabled={records.isFetchingNextPage}
          onClick={() => records.fetchNextPage()}
        >
          Load older
        </button>
      ) : null}
    </DeskFrame>
  );
}
