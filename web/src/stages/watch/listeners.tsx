import { useState } from "react";
import { type ListenerOrder, Problem } from "../../api/client";
import { useAddListener, useDropListener, useListeners } from "../../api/events";
import { Copy } from "../../parts/copy";
import { Field } from "../../parts/field";
import { Trouble } from "../../parts/trouble";
import { When } from "../../parts/when";

const empty: ListenerOrder = { kind: "webhook", target: "", cut_only: false, from: "", to: "" };

/** Listeners says who is told of events while nobody looks, and lets an operator change that. */
export function Listeners({ estate }: { estate: string }) {
  const list = useListeners(estate, true);
  const add = useAddListener(estate);
  const drop = useDropListener(estate);
  const [form, setForm] = useState(empty);
  const refused = add.error instanceof Problem ? add.error.fields : {};
  const text = (name: "target" | "from" | "to", hint: string, width: string) => (aria: object) => (
    <input
      {...aria}
      className={`cell ${width}`}
      placeholder={hint}
      value={form[name] ?? ""}
      onChange={(e) => setForm({ ...form, [name]: e.target.value })}
    />
  );
  return (
    <section className="mt-6" data-testid="listeners">
      <h2 className="text-lg">Who is told</h2>
      <Trouble error={list.error ?? drop.error} />
      {(list.data ?? []).length > 0 ? (
        <table className="ruled mb-3">
          <tbody>
            {(list.data ?? []).map((l) => (
              <tr key={l.id}>
                <td className="font-mono break-all">{l.target}</td>
                <td>
                  {l.cut_only ? "what cuts somebody" : "all"}
                  {l.from ? `, ${l.from} to ${l.to} UTC` : ""}
                </td>
                <td>
                  {l.trouble ? (
                    <span className="text-warning">▲ {l.trouble}; it is tried again</span>
                  ) : l.last_at ? (
                    <>
                      told <When at={l.last_at} />
                    </>
                  ) : (
                    <span className="text-secondary">nothing to tell yet</span>
                  )}
                </td>
                <td className="text-right">
                  <button type="button" className="btn btn-xs" onClick={() => drop.mutate(l.id)}>
                    Tell no more
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <p className="text-secondary mb-2">
          Nobody. Events are told by webhook, as signed CloudEvents, or by mail.
        </p>
      )}
      <form
        className="flex flex-wrap gap-3 items-start"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate({ ...form, target: form.target.trim() }, { onSuccess: () => setForm(empty) });
        }}
      >
        <Field label="By" error={refused.kind}>
          {(aria) => (
            <select
              {...aria}
              className="cell w-auto"
              value={form.kind}
              onChange={(e) => setForm({ ...form, kind: e.target.value as "webhook" })}
            >
              <option value="webhook">webhook</option>
              <option value="mailbox">mail</option>
            </select>
          )}
        </Field>
        <Field label={form.kind === "webhook" ? "URL" : "Address for mail"} error={refused.target}>
          {text(
            "target",
            form.kind === "webhook" ? "https://chat.example/hook" : "night@plan.example",
            "w-72",
          )}
        </Field>
        <Field label="From, UTC" error={refused.from}>
          {text("from", "any time", "w-24")}
        </Field>
        <Field label="until, UTC" error={refused.to}>
          {text("to", "any time", "w-24")}
        </Field>
        <label className="flex gap-2 items-center mt-5">
          <input
            type="checkbox"
            checked={form.cut_only ?? false}
            onChange={(e) => setForm({ ...form, cut_only: e.target.checked })}
          />
          only what cuts somebody
        </label>
        <button
          type="submit"
          className="btn btn-sm btn-primary mt-4"
          disabled={!form.target.trim() || add.isPending}
        >
          Tell them
        </button>
      </form>
      {add.error && Object.keys(refused).length === 0 ? <Trouble error={add.error} /> : null}
      {add.data?.secret ? (
        <p className="mt-2" role="status">
          The secret that its messages are signed with, told once:{" "}
          <code className="break-all">{add.data.secret}</code> <Copy text={add.data.secret} />
        </p>
      ) : null}
    </section>
  );
}
