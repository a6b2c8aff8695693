import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type AuditLine, answered, client } from "../api/client";
import { Trouble } from "./trouble";
import { Waiting } from "./waiting";
import { When } from "./when";

/** AuditList shows who did what, and in an estate, when asked, what it was before and after. */
export function AuditList({ records, estate }: { records: AuditLine[]; estate?: string }) {
  if (records.length === 0) {
    return <p className="py-3">Nothing of that kind was done.</p>;
  }
  return (
    <table className="ruled text-[13px]">
      <thead>
        <tr>
          <th>When</th>
          <th>Who</th>
          <th>From</th>
          <th>What</th>
          <th>To what</th>
        </tr>
      </thead>
      <tbody>
        {records.map((r) => (
          <tr key={r.id}>
            <td>
              <When at={r.at} />
            </td>
            <td className="font-mono">{r.who}</td>
            <td className="font-mono">{r.origin}</td>
            <td className="font-mono whitespace-nowrap">{r.action}</td>
            <td className="min-w-60 break-words">
              {r.draft ? <span className="text-secondary">{r.draft}: </span> : null}
              {r.object}
              {estate ? <Changed estate={estate} record={r.id} /> : null}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Changed({ estate, record }: { estate: string; record: number }) {
  const [open, setOpen] = useState(false);
  const found = useQuery({
    queryKey: ["audit", estate, record],
    queryFn: () =>
      answered(client.GET("/api/estates/{estate}/audit/{record}", { params: { path: { estate, record } } })),
    enabled: open,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const data = found.data;
  return (
    <details onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="cursor-pointer text-secondary">before and after</summary>
      <Trouble error={found.error} />
      {open && found.isPending ? <Waiting what="what changed" /> : null}
      {data && data.before === undefined && data.after === undefined ? (
        <p className="text-secondary">Nothing is recorded of that.</p>
      ) : null}
      {data && (data.before !== undefined || data.after !== undefined) ? (
        <div className="grid grid-cols-2 gap-2">
          <Side name="before" value={data.before} />
          <Side name="after" value={data.after} />
        </div>
      ) : null}
    </details>
  );
}

function Side({ name, value }: { name: string; value: unknown }) {
  return (
    <div className="min-w-0">
      <p className="text-secondary">{name}</p>
      <pre className="text-xs bg-base-200 p-2 overflow-auto max-h-72 whitespace-pre-wrap break-words">
        {value === undefined ? "nothing" : JSON.stringify(value, null, 1)}
      </pre>
    </div>
  );
}
