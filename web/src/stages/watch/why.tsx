import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { Problem, type WhyAnswer } from "../../api/client";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useEstate } from "../../api/queries";
import { useWhy, useWhyLooked, type WhyQuery } from "../../api/why";
import { Field } from "../../parts/field";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";
import { Causes } from "./causes";
import { PathSteps } from "./path-steps";

/**
 * Why says why one address does not reach another. The engineer wants to know which step fails
 * and what mends it; they compare what the design says with what both ends of it see.
 */
export default function Why() {
  const at = usePlace();
  const [params, setParams] = useSearchParams();
  const asked = Object.fromEntries(params);
  const [form, setForm] = useState({ from: "", to: "", protocol: "icmp", port: "", ...asked });
  const query: WhyQuery | undefined =
    asked.from && asked.to
      ? {
          from: asked.from,
          to: asked.to,
          ...(asked.protocol ? { protocol: asked.protocol as "tcp" } : {}),
          ...(asked.port ? { port: Number(asked.port) } : {}),
        }
      : undefined;
  const role = useEstate(at).data?.role ?? "reader";
  const may = role !== "reader";
  const known = useWhy(at.estate, query);
  const looked = useWhyLooked(at.estate, query, may);
  const trouble = known.error ?? looked.error;
  const refused = trouble instanceof Problem ? trouble.fields : {};
  const answer = looked.data ?? known.data;
  const input = (name: "from" | "to" | "port", hint: string) => (aria: object) => (
    <input
      {...aria}
      className="cell font-mono"
      placeholder={hint}
      value={form[name]}
      onChange={(e) => setForm({ ...form, [name]: e.target.value })}
    />
  );
  return (
    <div className="pb-10">
      <StageHead title="Why does it not arrive?">
        Which step fails, what is the cause, and what mends it? By the release in force, and what gateways
        see.
      </StageHead>
      <div className="px-6 max-w-6xl">
        <form
          className="flex flex-wrap gap-3 items-start mb-3"
          onSubmit={(e) => {
            e.preventDefault();
            const next = new URLSearchParams(
              Object.entries(form)
                .map(([name, value]): [string, string] => [name, value.trim()])
                .filter(([, value]) => value),
            );
            if (`${next}` !== `${params}`) {
              setParams(next); // which asks
            } else {
              known.refetch();
              if (may) {
                looked.refetch();
              }
            }
          }}
        >
          <div className="w-56">
            <Field label="From address or site" error={refused["query.from"] ?? refused.from}>
              {input("from", "10.20.8.9")}
            </Field>
          </div>
          <div className="w-56">
            <Field label="To address or site" error={refused["query.to"] ?? refused.to}>
              {input("to", "10.16.4.1")}
            </Field>
          </div>
          <div className="w-28">
            <Field label="Protocol">
              {(aria) => (
                <select
                  {...aria}
                  className="cell"
                  value={form.protocol}
                  onChange={(e) => setForm({ ...form, protocol: e.target.value })}
                >
                  <option>icmp</option>
                  <option>tcp</option>
                  <option>udp</option>
                </select>
              )}
            </Field>
          </div>
          <div className="w-20">
            <Field label="Port" error={refused["query.port"]}>
              {input("port", "443")}
            </Field>
          </div>
          <button type="submit" className="btn btn-sm btn-primary mt-4" disabled={!form.from || !form.to}>
            Ask why
          </button>
          <button
            type="button"
            className="btn btn-sm mt-4"
            onClick={() => setForm({ ...form, from: form.to, to: form.from })}
          >
            Swap ends
          </button>
        </form>
        <Trouble error={trouble} />
        {query && known.isPending && !known.error ? <Waiting what="the path" /> : null}
        {query && may && looked.isFetching ? (
          <p role="status" className="mb-2 flex items-center gap-2">
            <span className="loading loading-dots loading-sm" aria-hidden="true" />
            The gateways on the path look closely: up to 20 s. This is what they reported last.
          </p>
        ) : null}
        {query && !may ? (
          <p className="text-secondary mb-2">
            ○ This is what gateways reported last. A planner can let them look closely.
          </p>
        ) : null}
        {query ? null : (
          <p className="text-secondary">
            Enter two addresses, as of a host that is called and of one that calls; or two sites.
          </p>
        )}
        {answer ? <Answer at={at} answer={answer} looking={looked.isFetching} /> : null}
      </div>
    </div>
  );
}

const verdicts: Record<WhyAnswer["verdict"], string> = {
  arrives: "✓ It arrives, and the answer comes back, as the design says.",
  standby: "▲ It arrives, but not by the first choice.",
  poor: "▲ It arrives, but not all of it.",
  fails: "■ It does not arrive.",
  refused: "■ The design does not let it through.",
  unseen: "○ By the design it arrives. Not all of the path is seen.",
};

function Answer({ at, answer, looking }: { at: Place; answer: WhyAnswer; looking: boolean }) {
  return (
    <>
      <p role="status" className="text-base font-semibold mb-1" data-testid="why-verdict">
        {verdicts[answer.verdict]}
      </p>
      <p className="text-secondary mb-3">
        <span className="font-mono">{answer.from}</span> to <span className="font-mono">{answer.to}</span>,{" "}
        {answer.protocol}
        {answer.port ? ` port ${answer.port}` : ""}, by release {answer.release};{" "}
        {answer.looked ? "gateways looked" : "as gateways reported last,"} <When at={answer.at} />
      </p>
      {answer.carried.length > 0 ? (
        <p className="mb-3" data-testid="carried">
          Meanwhile it goes by the {answer.carried.join(", then by the ")}.
        </p>
      ) : null}
      <Causes at={at} causes={answer.causes.filter((c) => !looking || c.sure !== "possible")} />
      {answer.unseen.length > 0 && !looking ? (
        <section className="mb-4">
          <h2 className="text-lg">Not seen</h2>
          <ul className="max-w-3xl">
            {answer.unseen.map((u) => (
              <li key={u}>○ {u}</li>
            ))}
          </ul>
        </section>
      ) : null}
      <PathSteps at={at} answer={answer} back={false} />
      <PathSteps at={at} answer={answer} back />
      <p className="mt-3">
        <Link
          className="link"
          to={`${pageOf(at)}/paths/-/follow?${new URLSearchParams({ from: answer.from, to: answer.to })}`}
        >
          Follow it in this draft
        </Link>
      </p>
    </>
  );
}
