import { Link, useSearchParams } from "react-router";
import { Problem, type WhyAnswer } from "../../api/client";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useEstate } from "../../api/queries";
import { useWhy, useWhyLooked, type WhyQuery } from "../../api/why";
import { PacketForm } from "../../parts/packet-form";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";
import { Causes } from "./causes";
import { PathSteps } from "./path-steps";
import { verdicts } from "./verdicts";

/**
 * Why says why one address does not reach another. The engineer wants to know which step fails
 * and how to repair it; they compare what the design says with what both ends of it see.
 */
export default function Why() {
  const at = usePlace();
  const [params, setParams] = useSearchParams();
  const asked = Object.fromEntries(params);
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
  return (
    <div className="pb-10">
      <StageHead title="Why does it not arrive?">
        Which step fails, why, and how is it repaired? By the release in force, and what gateways see.
      </StageHead>
      <div className="px-6 max-w-6xl">
        <PacketForm
          asked={asked}
          ends={["From address or site", "To address or site"]}
          refused={refused}
          words="Ask why"
          onAsk={(entries) => {
            const next = new URLSearchParams(entries);
            if (`${next}` !== `${params}`) {
              setParams(next); // which asks
              return;
            }
            known.refetch();
            if (may) {
              looked.refetch();
            }
          }}
        />
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
