import { Link } from "react-router";
import type { TunnelNow, WhyAnswer } from "../../api/client";
import { useGateway, useGateways } from "../../api/gateways";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useSites } from "../../api/queries";
import { useWhy } from "../../api/why";
import { useAddress } from "../../parts/address";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { Causes } from "./causes";
import { agoText, lossText, msText } from "./figures";
import { LastHour } from "./last-hour";
import { PathSteps } from "./path-steps";
import { StateOf } from "./tunnel-ends";
import { verdicts } from "./verdicts";

/**
 * Pair is the page of two sites. The engineer wants to know whether they reach each other, by what,
 * and what is left if that fails; they compare the way there with the way back.
 */
export default function Pair() {
  const at = usePlace();
  const [params] = useAddress();
  const a = params.get("a") ?? "";
  const b = params.get("b") ?? "";
  const sites = useSites(at).data ?? [];
  const name = (key: string) => sites.find((s) => s.key === key)?.name || key;
  const why = useWhy(at.estate, a && b ? { from: a, to: b } : undefined, 5000);
  const is = why.data;
  return (
    <div className="pb-10">
      <StageHead
        title={`${name(a)} and ${name(b)}`}
        actions={
          <>
            <Link
              className="btn btn-sm"
              to={`${pageOf(at)}/paths/-/follow?${new URLSearchParams({ from: is?.from ?? "", to: is?.to ?? "" })}`}
            >
              Design
            </Link>
            <Link
              className="btn btn-sm"
              to={`${pageOf(at)}/watch/-/why?${new URLSearchParams({ from: a, to: b })}`}
            >
              Why does it not arrive?
            </Link>
          </>
        }
      >
        <Link className="link" to={`${pageOf(at)}/watch`}>
          Watch
        </Link>{" "}
        ·{" "}
        <Link className="link" to={`${pageOf(at)}/watch/-/loom`}>
          Live loom
        </Link>{" "}
        · <span className="font-mono">{a}</span>, <span className="font-mono">{b}</span>
      </StageHead>
      <div className="px-6">
        <Trouble error={why.error} />
        {why.isPending && !why.error ? <Waiting what="the pair" /> : null}
        {is ? <Reached at={at} is={is} /> : null}
        <Between at={at} a={a} b={b} />
        {is && is.verdict !== "refused" ? (
          <div className="grid grid-cols-2 gap-x-8">
            <PathSteps at={at} answer={is} back={false} />
            <PathSteps at={at} answer={is} back />
          </div>
        ) : null}
        {is ? (
          <div className="grid grid-cols-2 gap-x-8">
            {[
              { site: a, other: b },
              { site: b, other: a },
            ].map((s, i) => (
              <section key={s.site} className="min-w-0" aria-label={`From ${s.site}, in the last hour`}>
                <LastHour at={at} subject={s} events={i === 0} />
              </section>
            ))}
          </div>
        ) : null}
      </div>
    </div>
  );
}

/** Whether an echo comes back; one that the policy is to deny says nothing of the tunnels. */
function Reached({ at, is }: { at: Place; is: WhyAnswer }) {
  if (is.verdict === "refused") {
    return (
      <p role="status" className="mb-2" data-testid="pair-verdict">
        ○ The design lets no echo through between them
        {is.causes[0] ? `: ${is.causes[0].words}` : ""}. Ask with a protocol and port that it permits.
      </p>
    );
  }
  return (
    <>
      <p role="status" className="text-base font-semibold mb-2" data-testid="pair-verdict">
        {verdicts[is.verdict]}
      </p>
      {is.carried.length > 0 ? (
        <p className="mb-2">Meanwhile it goes by the {is.carried.join(", then by the ")}.</p>
      ) : null}
      <Causes at={at} causes={is.causes.filter((c) => c.sure !== "possible")} />
    </>
  );
}

/** The tunnels between the two, in the order of choice, as both ends see them. */
function Between({ at, a, b }: { at: Place; a: string; b: string }) {
  const gateways = useGateways(at.estate);
  const joined = new Set((gateways.data?.gateways ?? []).map((g) => g.site));
  const here = useGateway(at.estate, a, joined.has(a), { peer: b }).data;
  const there = useGateway(at.estate, b, joined.has(b), { peer: a }).data;
  const list = [...(here?.tunnel_ends ?? [])].sort(
    (x, y) => (x.overlay ?? "").localeCompare(y.overlay ?? "") || (x.rank ?? 0) - (y.rank ?? 0),
  );
  if (!here) {
    return gateways.data && !joined.has(a) ? (
      <p className="mb-3">○ No gateway of {a} has joined yet, so its end is not seen.</p>
    ) : null;
  }
  if (list.length === 0) {
    return (
      <p className="mb-3 text-secondary">No tunnel joins the two: what goes between them passes others.</p>
    );
  }
  const far = (t: TunnelNow) =>
    there?.tunnel_ends.find((x) => x.overlay === t.overlay && x.tunnel === t.tunnel);
  return (
    <section className="mb-4 max-w-5xl">
      <h2 className="text-lg">Tunnels between them</h2>
      <table className="ruled" data-testid="between">
        <thead>
          <tr>
            <th>Tunnel</th>
            <th>Overlay</th>
            <th className="text-right">Choice</th>
            <th>At {a}</th>
            <th>At {b}</th>
            <th className="text-right">Handshake</th>
            <th className="text-right">Latency</th>
            <th className="text-right">Loss there, back</th>
          </tr>
        </thead>
        <tbody>
          {list.map((t) => {
            const other = far(t);
            return (
              <tr key={t.interface}>
                <td>
                  <Link
                    className="link"
                    to={`${pageOf(at)}/watch/-/tunnel?${new URLSearchParams({ overlay: t.overlay ?? "", tunnel: t.tunnel ?? "" })}`}
                  >
                    {t.link} – {t.peer_link}
                  </Link>
                </td>
                <td>{t.overlay}</td>
                <td className="text-right tabular-nums">{t.rank}</td>
                <td>
                  <StateOf t={t} />
                </td>
                <td>{other ? <StateOf t={other} /> : <span className="text-secondary">○ not seen</span>}</td>
                <td className="text-right tabular-nums">{agoText(t.handshake_s)}</td>
                <td className="text-right tabular-nums">{msText(t, t.latency_us)}</td>
                <td className="text-right tabular-nums">
                  {lossText(t, t.loss_out_ppm)}, {lossText(t, t.loss_back_ppm)}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
