import { useState } from "react";
import { type MaintenanceWindow, Problem } from "../../api/client";
import { useAddWindow, useDropWindow, useWindows, type WindowOrder } from "../../api/events";
import type { Place } from "../../api/place";
import { Field, MomentField } from "../../parts/field";
import { Trouble } from "../../parts/trouble";
import { When } from "../../parts/when";

const repeats: Record<string, string> = { "": "once", day: "each day", week: "each week" };
const empty = { site: "", begins: "", minutes: "120", every: "", words: "" };

/**
 * Windows lists when maintenance is announced, so that nobody is woken by it. The engineer wants
 * to know what is announced for tonight, and to announce their own work.
 */
export function Windows({ at, may }: { at: Place; may: boolean }) {
  const list = useWindows(at.estate);
  const drop = useDropWindow(at.estate);
  return (
    <section className="mt-6" data-testid="windows">
      <h2 className="text-lg">Windows of maintenance</h2>
      <Trouble error={list.error ?? drop.error} />
      {(list.data ?? []).length > 0 ? (
        <table className="ruled mb-3">
          <tbody>
            {(list.data ?? []).map((w) => (
              <tr key={w.id}>
                <td>
                  {w.site ? <span className="font-mono">{w.site}</span> : "all sites"}
                  {w.open ? <strong> ◐ now</strong> : null}
                </td>
                <td>
                  <When at={w.begins_at} />, {lengthOf(w)}, {repeats[w.every ?? ""]}
                </td>
                <td>{w.words}</td>
                <td className="text-secondary">{w.author}</td>
                <td className="text-right">
                  {may ? (
                    <button
                      type="button"
                      className="btn btn-xs"
                      onClick={() => w.id !== undefined && drop.mutate(w.id)}
                    >
                      Take back
                    </button>
                  ) : null}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <p className="text-secondary mb-2">
          None is announced. What begins in one is told nobody, unless it lasts longer.
        </p>
      )}
      {may ? <Announce at={at} /> : null}
    </section>
  );
}

function lengthOf(w: MaintenanceWindow): string {
  return w.minutes % 60 === 0 ? `${w.minutes / 60} h` : `${w.minutes} min`;
}

function Announce({ at }: { at: Place }) {
  const add = useAddWindow(at.estate);
  const [form, setForm] = useState(empty);
  const refused = add.error instanceof Problem ? add.error.fields : {};
  const minutes = /^\d{1,5}$/.test(form.minutes) ? Number(form.minutes) : undefined;
  const text = (name: "site" | "minutes" | "words", hint: string, width: string) => (aria: object) => (
    <input
      {...aria}
      className={`cell ${width}`}
      placeholder={hint}
      value={form[name]}
      onChange={(e) => setForm({ ...form, [name]: e.target.value })}
    />
  );
  return (
    <form
      className="flex flex-wrap gap-3 items-start"
      onSubmit={(e) => {
        e.preventDefault();
        const order: WindowOrder = {
          site: form.site.trim(),
          begins_at: new Date(form.begins).toISOString(),
          minutes: minutes ?? 0,
          every: form.every as WindowOrder["every"],
          words: form.words.trim(),
        };
        add.mutate(order, { onSuccess: () => setForm(empty) });
      }}
    >
      <Field label="Site" error={refused.site}>
        {text("site", "all sites", "w-36")}
      </Field>
      <MomentField
        label="Begins, your time"
        error={refused.begins_at}
        value={form.begins}
        onChange={(begins) => setForm({ ...form, begins })}
      />
      <Field
        label="Minutes"
        error={refused.minutes ?? (minutes === undefined ? "a whole number" : undefined)}
      >
        {text("minutes", "120", "w-20")}
      </Field>
      <Field label="Comes again">
        {(aria) => (
          <select
            {...aria}
            className="cell w-auto"
            value={form.every}
            onChange={(e) => setForm({ ...form, every: e.target.value })}
          >
            {Object.entries(repeats).map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </select>
        )}
      </Field>
      <Field label="What is done">{text("words", "new fibre at the works", "w-56")}</Field>
      <button
        type="submit"
        className="btn btn-sm mt-4"
        disabled={!form.begins || minutes === undefined || add.isPending}
      >
        Announce it
      </button>
      {add.error && Object.keys(refused).length === 0 ? <Trouble error={add.error} /> : null}
    </form>
  );
}
