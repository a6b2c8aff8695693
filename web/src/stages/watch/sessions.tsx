import { Link } from "react-router";
import { useBenchNext } from "../../api/bench";
import type { TunnelSessions } from "../../api/client";
import { type Place, pageOf } from "../../api/place";
import { useEstate } from "../../api/queries";
import { type SessionsOrder, useSessions } from "../../api/sessions";
import { many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";
import { agoText } from "./figures";

const protocols: Record<number, string> = { 1: "ICMP", 6: "TCP", 17: "UDP", 58: "ICMPv6" };

/**
 * Sessions lists what is open by a tunnel and ends it, in a window of maintenance. The engineer wants
 * to know whose traffic goes by it before they touch it, and to have a stuck one begin anew.
 */
export function Sessions({ at, ends }: { at: Place; ends: { site: string; interface: string }[] }) {
  const role = useEstate(at).data?.role;
  const operates = role === "operator" || role === "owner";
  const first = ends[0];
  const next = useBenchNext(at.estate, operates ? first : undefined);
  const ask = useSessions(at.estate);
  if (!operates || !first) {
    return null;
  }
  const open = next.data?.open ?? false;
  return (
    <section className="mb-5 max-w-5xl" data-testid="sessions">
      <h2 className="text-lg">Sessions</h2>
      {next.data && !open ? (
        <p className="text-secondary">
          ○ Who talks to whom by this tunnel is told, and reset, in a window of maintenance of one of its ends
          only, and recorded:{" "}
          <Link className="link" to={`${pageOf(at)}/watch/-/events`}>
            announce one
          </Link>
          .
        </p>
      ) : null}
      {open ? (
        <div className="flex flex-wrap gap-2 mb-2">
          {ends.map((e) => (
            <button
              key={e.site}
              type="button"
              className="btn btn-sm"
              disabled={ask.isPending}
              onClick={() => ask.mutate(e)}
            >
              List them at {e.site}
            </button>
          ))}
          <span className="text-secondary text-[13px] self-center">It is recorded in the audit.</span>
        </div>
      ) : null}
      <Trouble error={ask.error} />
      {ask.isPending ? <Waiting what="the gateway's answer" /> : null}
      {ask.data && !ask.isPending ? (
        <Told is={ask.data} open={open} onReset={(order) => ask.mutate(order)} />
      ) : null}
    </section>
  );
}

function Told(props: { is: TunnelSessions; open: boolean; onReset: (order: SessionsOrder) => void }) {
  const { is } = props;
  const order = { site: is.site, interface: is.interface };
  const flows = is.flows.length + is.more;
  return (
    <>
      <p role="status" className="mb-1">
        {is.reset === "keys" ? (
          <strong>✓ {is.site} rekeys the tunnel. </strong>
        ) : is.reset === "flows" ? (
          <strong>
            ✓ {many(is.ended, "flow is", "flows are")} cleared at {is.site}.{" "}
          </strong>
        ) : null}
        {is.words
          ? `${is.site} does not tell of flows: ${is.words}.`
          : `${is.reset ? "Before that it" : is.site} had ${many(flows, "flow")} by it,`}{" "}
        <When at={is.at} />
      </p>
      {is.keys.map((k) => (
        <p key={k.key} className="text-[13px]">
          With key <span className="font-mono">{k.key}</span>: last handshake {agoText(k.handshake_s)}
          {k.endpoint ? (
            <>
              , far end at <span className="font-mono">{k.endpoint}</span>
            </>
          ) : null}
        </p>
      ))}
      {is.flows.length > 0 ? (
        <div className="max-h-72 overflow-auto my-2">
          <table className="ruled" data-testid="flows">
            <thead>
              <tr>
                <th>Protocol</th>
                <th>From</th>
                <th>To</th>
                <th>
                  <span className="sr-only">Whether it waits for an answer</span>
                </th>
                <th className="text-right">Expires in</th>
              </tr>
            </thead>
            <tbody>
              {is.flows.map((f) => (
                <tr key={`${f.protocol} ${f.from} ${f.to}`}>
                  <td>{protocols[f.protocol] ?? f.protocol}</td>
                  <td className="font-mono text-[13px]">{f.from}</td>
                  <td className="font-mono text-[13px]">{f.to}</td>
                  <td>{f.unanswered ? <span className="text-warning">▲ no answer yet</span> : null}</td>
                  <td className="text-right tabular-nums">{f.seconds_left} s</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : null}
      {is.more > 0 ? <p className="text-secondary text-[13px]">{many(is.more, "more flow")}.</p> : null}
      {props.open ? (
        <div className="flex flex-wrap gap-2 mt-2">
          <button
            type="button"
            className="btn btn-sm"
            title="What is on its way is lost, as for a round trip; then all goes on"
            onClick={() => props.onReset({ ...order, reset: "keys" })}
          >
            Rekey the tunnel
          </button>
          <button
            type="button"
            className="btn btn-sm"
            disabled={flows === 0}
            title="The gateway forgets them, as if their first packets were still to come; a policy may then refuse what answers"
            onClick={() => props.onReset({ ...order, reset: "flows" })}
          >
            Clear {flows === 1 ? "this flow" : "these flows"}
          </button>
        </div>
      ) : null}
    </>
  );
}
