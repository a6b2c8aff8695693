import { type RefObject, useEffect, useRef, useState } from "react";
import type { Fix, ImportPreview } from "../../api/client";

type Remark = ImportPreview["remarks"][number];

/** What is wrong with a heading or a whole sheet is in no cell that could be fixed here. */
const inCell = (r: Remark) => Boolean(r.column) && r.row > 1;

/** Preview shows what a parcel holds: bad cells to fix, then what was read differently from how it was written. */
export function Preview(props: {
  preview: ImportPreview;
  fixes: Fix[];
  busy: boolean;
  onFix: (m: Fix) => void;
}) {
  const { preview } = props;
  const bad = preview.remarks.filter((r) => r.kind === "bad");
  const other = preview.remarks.filter((r) => r.kind !== "bad");
  const fixable = bad.some(inCell);
  const section = useRef<HTMLElement>(null);
  useKeptFocus(section, bad.map((r) => `${r.sheet} ${r.row} ${r.column}`).join("\n"));
  return (
    <section ref={section} aria-label="Preview" aria-busy={props.busy} className="mt-4 space-y-4">
      {preview.sheets.length > 0 ? <Counts sheets={preview.sheets} /> : null}
      {preview.problems.length > 0 ? (
        <Lines title="Fix these in the document" lines={preview.problems} />
      ) : null}
      {preview.notes.length > 0 ? <Lines title="Normalised while reading" lines={preview.notes} /> : null}
      {bad.length > 0 ? (
        <div>
          <h2 className="text-lg">
            <span className="text-error text-sm">■</span> {fixable ? "Cells to fix" : "What is wrong"}
          </h2>
          {fixable ? (
            <p className="text-secondary text-[13px]">
              Write the right value and press Enter; the sheet itself stays as it is.
            </p>
          ) : null}
          <table className="ruled">
            <thead>
              <tr>
                <th>Sheet</th>
                <th className="num">Row</th>
                <th>Column</th>
                <th className="w-72">Value</th>
                <th>What is wrong</th>
              </tr>
            </thead>
            <tbody>
              {bad.map((r) => (
                <BadCell
                  key={`${r.sheet} ${r.row} ${r.column} ${r.message}`}
                  remark={r}
                  fixes={props.fixes}
                  onFix={props.onFix}
                />
              ))}
            </tbody>
          </table>
        </div>
      ) : null}
      {other.length > 0 ? (
        <details open={other.length <= 8}>
          <summary className="cursor-pointer">
            <span className="text-lg font-serif font-semibold">Normalised while reading</span>{" "}
            <span className="text-secondary">{other.length} remarks</span>
          </summary>
          <table className="ruled">
            <tbody>
              {other.map((r) => (
                <tr key={`${r.sheet} ${r.row} ${r.column} ${r.message}`}>
                  <td>{r.sheet}</td>
                  <td className="num">{r.row ? `row ${r.row}` : ""}</td>
                  <td className="font-mono">{r.column}</td>
                  <td>
                    {r.kind === "ignored" ? "Left alone: " : ""}
                    {r.message}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </details>
      ) : null}
      {preview.omitted > 0 ? <p>And {preview.omitted} more remarks, which are not listed.</p> : null}
    </section>
  );
}

/**
 * Keeps the focus where the engineer works when the list of bad cells changes: in
 * the cell itself while it is still bad, else in the one that took its place, or the
 * last one.
 */
function useKeptFocus(section: RefObject<HTMLElement | null>, cells: string) {
  const was = useRef({ cell: "", place: -1 });
  useEffect(() => {
    const note = () => {
      const all = [...(section.current?.querySelectorAll<HTMLElement>("[data-cell]") ?? [])];
      const place = all.indexOf(document.activeElement as HTMLElement);
      if (place >= 0) {
        was.current = { cell: all[place]?.dataset.cell ?? "", place };
      } else if (document.activeElement !== document.body) {
        was.current = { cell: "", place: -1 };
      }
    };
    document.addEventListener("focusin", note);
    return () => document.removeEventListener("focusin", note);
  }, [section]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the cells are what it follows
  useEffect(() => {
    if (was.current.place < 0 || document.activeElement !== document.body) {
      return;
    }
    const all = [...(section.current?.querySelectorAll<HTMLElement>("[data-cell]") ?? [])];
    const same = all.find((one) => one.dataset.cell === was.current.cell);
    (same ?? all[Math.min(was.current.place, all.length - 1)])?.focus();
  }, [cells, section]);
}

function Counts({ sheets }: { sheets: ImportPreview["sheets"] }) {
  return (
    <table className="ruled max-w-2xl">
      <thead>
        <tr>
          <th>Sheet</th>
          {["Rows", "New", "Changed", "The same", "Bad"].map((h) => (
            <th key={h} className="num">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {sheets.map((s) => (
          <tr key={s.sheet}>
            <td>{s.sheet}</td>
            <td className="num">
              {s.unread ? <span className="text-error">■ cannot be read</span> : s.rows}
            </td>
            <td className="num">{s.new}</td>
            <td className="num">{s.changed}</td>
            <td className="num">{s.same}</td>
            <td className={`num ${s.bad ? "text-error font-semibold" : ""}`}>{s.bad ? `■ ${s.bad}` : 0}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Lines({ title, lines }: { title: string; lines: ImportPreview["problems"] }) {
  return (
    <div>
      <h2 className="text-lg">{title}</h2>
      <table className="ruled">
        <tbody>
          {lines.map((p) => (
            <tr key={`${p.line} ${p.column} ${p.path} ${p.message}`}>
              <td className="num whitespace-nowrap">{p.line ? `line ${p.line}, column ${p.column}` : ""}</td>
              <td className="font-mono">{p.path}</td>
              <td>{p.message}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function BadCell({ remark, fixes, onFix }: { remark: Remark; fixes: Fix[]; onFix: (m: Fix) => void }) {
  const fixed = fixes.find(
    (m) => m.sheet === remark.sheet && m.row === remark.row && m.column === remark.column,
  );
  const [value, setValue] = useState(fixed?.value ?? remark.value ?? "");
  const column = remark.column ?? "";
  const send = () => {
    if (value !== (fixed?.value ?? remark.value ?? "")) {
      onFix({ sheet: remark.sheet, row: remark.row, column, value });
    }
  };
  return (
    <tr>
      <td>{remark.sheet}</td>
      <td className="num">{remark.row || ""}</td>
      <td className="font-mono">{column}</td>
      <td>
        {inCell(remark) ? (
          <input
            data-cell={`${remark.sheet} ${remark.row} ${column}`}
            className="cell font-mono text-[13px]"
            aria-label={`${remark.sheet}, row ${remark.row}, ${column}`}
            aria-invalid="true"
            value={value}
            onChange={(e) => setValue(e.target.value)}
            onBlur={send}
            onKeyDown={(e) => {
              if (e.key === "Enter") {
                send();
              }
            }}
          />
        ) : (
          <span className="font-mono text-[13px] break-all">{remark.value}</span>
        )}
      </td>
      <td>{remark.message}</td>
    </tr>
  );
}
