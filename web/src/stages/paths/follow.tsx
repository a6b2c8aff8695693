import { Link, useSearchParams } from "react-router";
import { type Followed, Problem, type WalkSheet } from "../../api/client";
import { type PacketQuery, useFollow } from "../../api/paths";
import { type Place, pageOf, usePlace } from "../../api/place";
import { failing } from "../../parts/failing";
import { PacketForm } from "../../parts/packet-form";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** Follow shows a packet's way, the answer's mirrored below it. */
export default function Follow() {
  const at = usePlace();
  const [params, setParams] = useSearchParams();
  const fail = params.getAll("fail");
  const asked = Object.fromEntries([...params].filter(([name]) => name !== "fail"));
  const packet: PacketQuery | undefined =
    asked.from && asked.to
      ? {
          from: asked.from,
          to: asked.to,
          ...(asked.protocol ? { protocol: asked.protocol as "tcp" } : {}),
          ...(asked.port ? { port: Number(asked.port) } : {}),
          ...(fail.length > 0 ? { fail } : {}),
        }
      : undefined;
  const followed = useFollow(at, packet);
  const refused = followed.error instanceof Problem ? followed.error.fields : {};
  return (
    <div className="pb-10">
      <StageHead title="Follow a packet">
        Does it arrive, by which tunnels, does the reply come back the same way, and if not, where is it
        dropped?
      </StageHead>
      <div className="px-6 max-w-6xl">
        <PacketForm
          asked={asked}
          ends={["From address", "To address"]}
          any="any"
          refused={refused}
          words="Follow"
          onAsk={(entries) => setParams([...entries, ...fail.map((f): [string, string] => ["fail", f])])}
        />
        {fail.length > 0 ? (
          <p className="border-l-4 border-warning px-3 py-1 mb-3">
            While {failing(fail)}.{" "}
            <Link className="link" to={`?${new URLSearchParams(asked)}`}>
              With nothing failing
            </Link>{" "}
            <Link
              className="link"
              to={`${pageOf(at)}/outages?${new URLSearchParams(fail.map((f) => ["fail", f]))}`}
            >
              What it does
            </Link>
          </p>
        ) : null}
        <Trouble error={followed.error} />
        {packet && followed.isPending && !followed.error ? <Waiting what="the packet" /> : null}
        {packet ? null : (
          <p className="text-secondary">
            Enter any two addresses of the estate, or press Ctrl+K anywhere and type both.
          </p>
        )}
        {followed.data ? <Ways at={at} followed={followed.data} /> : null}
        {followed.data && packet ? (
          <p className="mt-3">
            <Link
              className="link"
              to={`${pageOf(at)}/watch/-/why?${new URLSearchParams({ from: packet.from, to: packet.to })}`}
            >
              Why does it not arrive? Ask the gateways
            </Link>
          </p>
        ) : null}
      </div>
    </div>
  );
}

function Ways({ at, followed: f }: { at: Place; followed: Followed }) {
  const leaves = f.forward.end === "leaves";
  const verdict = f.arrives
    ? f.symmetric
      ? leaves
        ? `✓ It leaves for the internet at ${f.forward.where}, and the answer comes back the same way.`
        : "✓ It arrives, and the reply comes back the same way."
      : "▲ It arrives, but the reply comes back another way: a stateful filter drops such flows."
    : f.forward.end === "delivered"
      ? "■ It arrives, but the reply does not come back."
      : leaves
        ? f.return
          ? `■ It leaves for the internet at ${f.forward.where}, but the answer does not come back.`
          : "○ It leaves the estate for the internet."
        : "■ It does not arrive.";
  return (
    <>
      <p role="status" className={`text-base mb-2 ${f.arrives && f.symmetric ? "" : "font-semibold"}`}>
        {verdict}{" "}
        {f.mtu ? <span className="text-secondary font-normal">Least MTU {f.mtu} bytes.</span> : null}
      </p>
      {f.arrives && !f.symmetric ? (
        <p className="mb-2">
          A pin does that, or a hub order that one side alone has:{" "}
          <Link
            className="link link-primary"
            to={`${pageOf(at)}/shape?view=policy&overlay=${f.forward.steps[0]?.overlay ?? ""}`}
          >
            policy and pins
          </Link>
        </p>
      ) : null}
      <Way at={at} title="There" way={f.forward} />
      {f.return ? <Way at={at} title="Back" way={f.return} mirrored /> : null}
      {f.rules.map((r) => (
        <details
          key={r.overlay}
          className="mt-3"
          open={(f.forward.rule ?? 0) > 0 || (f.return?.rule ?? 0) > 0}
        >
          <summary className="cursor-pointer">
            Policy of {r.overlay}, first match decides; otherwise {r.default || "permit"}
          </summary>
          <ol className="list-decimal pl-8 font-mono text-[13px]">
            {r.rules.map((text, i) => (
              <li
                // biome-ignore lint/suspicious/noArrayIndexKey: a rule is known by its place
                key={i}
                className={
                  i + 1 === (f.forward.rule ?? 0) || i + 1 === f.return?.rule
                    ? "font-semibold bg-base-300"
                    : ""
                }
              >
                {text}
                {i + 1 === (f.forward.rule ?? 0) ? " — decides there" : ""}
                {i + 1 === f.return?.rule ? " — decides back" : ""}
              </li>
            ))}
          </ol>
        </details>
      ))}
    </>
  );
}

function Way({ at, title, way, mirrored }: { at: Place; title: string; way: WalkSheet; mirrored?: boolean }) {
  const good = way.end === "delivered";
  const stops = [way.from, ...way.steps.map((s) => s.next)];
  return (
    <section aria-label={title} className={`border-base-content py-3 ${mirrored ? "border-b" : "border-t"}`}>
      <h2 className="text-base">{title}</h2>
      <ol className={`flex items-stretch overflow-x-auto ${mirrored ? "flex-row-reverse justify-end" : ""}`}>
        {stops.map((site, i) => {
          const step = way.steps[i];
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: a site may be on the way twice
            <li key={i} className={`flex items-stretch ${mirrored ? "flex-row-reverse" : ""}`}>
              <Link
                to={`${pageOf(at)}/paths/${site}`}
                className="border border-base-content px-3 py-2 min-w-28 text-center self-center font-mono text-[13px] hover:bg-base-200"
              >
                {site || "nowhere"}
              </Link>
              {step ? (
                <Link
                  to={`${pageOf(at)}/paths/-/tunnel?${new URLSearchParams({ overlay: step.overlay, tunnel: step.tunnel })}`}
                  className="w-44 px-1 text-xs text-center hover:bg-base-200 flex flex-col justify-center"
                  title="Both ends of this tunnel"
                >
                  <span className="break-words">
                    {step.interface} {mirrored ? "←" : "→"} {step.next_interface}
                  </span>
                  <span className="block border-t-4 border-primary my-0.5" aria-hidden="true" />
                  <span className="text-secondary">
                    {step.overlay}, MTU {step.mtu}, cost {step.cost}
                    {step.why ? `; by ${step.why}` : ""}
                  </span>
                  {(step.beyond ?? []).map((words) => (
                    <span key={words} className="text-warning">
                      ▲ beyond its limits: {words}
                    </span>
                  ))}
                  {(step.beside ?? []).map((b) => (
                    <span key={b.interface} className="text-secondary">
                      or {b.interface}, {b.weight} to {step.weight}
                    </span>
                  ))}
                </Link>
              ) : null}
            </li>
          );
        })}
      </ol>
      {good ? null : (
        <div
          className={`border-l-4 px-3 py-2 mt-2 ${way.end === "leaves" ? "border-base-content" : "border-error bg-error/10"}`}
        >
          <p>
            <strong className={way.end === "leaves" ? "" : "text-error"}>
              {way.end === "leaves" ? "○" : "■"} {way.partly ? "for some flows, " : ""}
              {way.end}
              {way.where ? ` at ${way.where}` : ""}
            </strong>{" "}
            {way.why}
          </p>
          <p>{way.fix}</p>
          {way.where ? (
            <p className="flex gap-4 pt-1">
              <Link className="link link-primary" to={`${pageOf(at)}/survey?site=${way.where}`}>
                {way.where} in Survey
              </Link>
              <Link className="link link-primary" to={`${pageOf(at)}/shape?view=policy`}>
                Policy and pins
              </Link>
              <Link className="link link-primary" to={`${pageOf(at)}/findings`}>
                Findings
              </Link>
            </p>
          ) : null}
        </div>
      )}
    </section>
  );
}
