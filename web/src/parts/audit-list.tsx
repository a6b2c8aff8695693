import type { AuditRecord } from "../api/client";
import { When } from "./when";

/** AuditList shows who did what, with what it was before and after. */
export function AuditList({ records }: { records: AuditRecord[] }) {
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
              {r.before !== undefined || r.after !== undefined ? (
                <details>
                  <summary className="cursor-pointer text-secondary">before and after</summary>
                  <div className="grid grid-cols-2 gap-2">
                    <Side name="before" value={r.before} />
                    <Side name="after" value={r.after} />
                  </div>
                </details>
              ) : null}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
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
