import { useEffect, useState } from "react";
import { Link } from "react-router";
import { useBench, useBenches, useBenchNext } from "../../api/bench";
import type { BenchRun } from "../../api/client";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useEstate } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { When } from "../../parts/when";

/** About how long it takes, both ways, in seconds. */
const TAKES = 25;

/**
 * Bench loads a tunnel and shows what it passed. The engineer wants to know whether a slow tunnel is as
 * slow as its links, or the survey is wrong; they compare one way with the other, and both with the
 * survey.
 */
export default function Bench() {
  const at = usePlace();
  const [params] = useAddress();
  const site = params.get("site") ?? "";
  const iface = params.get("interface") ?? "";
  const query = site && iface ? { site, interface: iface } : undefined;
  const role = useEstate(at).data?.role;
  const next = useBenchNext(at.estate, query);
  const bench = useBench(at.estate);
  const list = useBenches(at.estate, site).data ?? [];
  const ends = next.data?.ends ?? [];
  const mine = list.filter((r) => ends.some((e) => e.site === r.site && e.interface === r.interface));
  const fresh = bench.data ?? [];
  const operates = role === "operator" || role === "owner";
  const [a, b] = ends;
  return (
    <div className="pb-10">
      <StageHead
        title="Throughput test"
        actions={
          <Link className="btn btn-sm" to={`${pageOf(at)}/watch/-/time?site=${site}&interface=${iface}`}>
            Over time
          </Link>
        }
      >
        {a && b ? (
          <>
            <span className="font-mono">
              {a.site}/{a.link}
            </span>{" "}
            to{" "}
            <span className="font-mono">
              {a.peer}/{a.peer_link}
            </span>
            . Is it as slow as its links, or is the survey wrong?
          </>
        ) : (
          "Choose a tunnel on the page of a gateway."
        )}
      </StageHead>
      <div className="px-6 max-w-5xl">
        <Trouble error={next.error ?? bench.error} />
        {a && b ? (
          <>
            <p className="mb-2">
              Packets of full size are sent at four rates, from {a.site} up to {mbps(a.kbps / 1000)} and then
              from {b.site} up to {mbps(b.kbps / 1000)}, and counted at the far end: what the survey lets both
              links have, but for the 5 % that gateways leave free.
            </p>
            {next.data?.open ? (
              <p className="mb-2">✓ A window of maintenance is open.</p>
            ) : (
              <p className="mb-2">
                ○ What is sent takes the place of other traffic for some seconds, so it needs a window of
                maintenance of {a.site} or {b.site}:{" "}
                <Link className="link" to={`${pageOf(at)}/watch/-/events`}>
                  announce one
                </Link>
                .
              </p>
            )}
            {operates ? (
              <button
                type="button"
                className="btn btn-sm btn-primary mb-3"
                disabled={!next.data?.open || bench.isPending}
                onClick={() => query && bench.mutate(query)}
              >
                Start the test
              </button>
            ) : (
              <p className="text-secondary mb-3">An operator can start the test.</p>
            )}
            {bench.isPending ? <Progress /> : null}
          </>
        ) : null}
        {fresh.map((r) => (
          <Run key={`${r.site}${r.at}`} at={at} r={r} />
        ))}
        {mine.length > fresh.length ? <h2 className="text-lg mt-4">Before</h2> : null}
        {mine
          .filter((r) => !fresh.some((f) => f.id === r.id))
          .slice(0, 10)
          .map((r) => (
            <Run key={r.id} at={at} r={r} />
          ))}
      </div>
    </div>
  );
}

function Progress() {
  const [seconds, setSeconds] = useState(0);
  useEffect(() => {
    const timer = setInterval(() => setSeconds((s) => s + 1), 1000);
    return () => clearInterval(timer);
  }, []);
  return (
    <p role="status" className="mb-3 flex items-center gap-2">
      <progress className="progress w-56" max={TAKES} value={Math.min(seconds, TAKES)} />
      {seconds < TAKES / 2 ? "One way" : "The other way"}, {seconds} s of about {TAKES}
    </p>
  );
}

const mbps = (v: number) => `${v.toFixed(v < 10 ? 1 : 0)} Mbit/s`;
const ms = (us?: number) => (us ? `${(us / 1000).toFixed(1)} ms` : "–");

/** Run is one way: a bar for each rate, what arrived in what was sent, and the verdict. */
function Run({ at, r }: { at: Place; r: BenchRun }) {
  const most = Math.max(r.kbps, ...r.steps.map((s) => s.kbps));
  const figure = Math.min(r.up_mbps || Number.POSITIVE_INFINITY, r.down_mbps || Number.POSITIVE_INFINITY);
  const less = r.limit && (figure === Number.POSITIVE_INFINITY || r.link_mbps < 0.9 * figure);
  return (
    <section className="mb-4" data-bench={r.site}>
      <h3 className="font-serif font-semibold">
        {r.site}/{r.link} to {r.peer}/{r.peer_link}
        <span className="font-sans font-normal text-xs text-secondary">
          {" "}
          <When at={r.at} />, {r.author}
        </span>
      </h3>
      {r.words ? (
        <p className="text-error">■ {r.words}</p>
      ) : (
        <>
          <p role="status">
            {less ? "▲" : "✓"} It passes {r.limit ? "" : "at least "}
            <strong>{mbps(r.link_mbps)}</strong> on the links. The survey says{" "}
            {r.up_mbps ? `${r.up_mbps} Mbit/s up` : "nothing of the rate up"} at {r.site} and{" "}
            {r.down_mbps ? `${r.down_mbps} Mbit/s down` : "nothing of the rate down"} at {r.peer}.
            {less ? (
              <>
                {" "}
                <Link className="link" to={`${pageOf(at)}/survey?site=${r.site}`}>
                  Correct {r.site}
                </Link>{" "}
                or{" "}
                <Link className="link" to={`${pageOf(at)}/survey?site=${r.peer}`}>
                  {r.peer}
                </Link>
              </>
            ) : null}
          </p>
          <table className="ruled mt-1">
            <thead>
              <tr>
                <th className="w-1/3">Sent, and of that arrived</th>
                <th className="text-right">Sent</th>
                <th className="text-right">Arrived</th>
                <th className="text-right">Lost there</th>
                <th className="text-right">Latency</th>
                <th className="text-right">Worst</th>
                <th className="text-right">Jitter</th>
              </tr>
            </thead>
            <tbody>
              {r.steps.map((s) => (
                <tr key={s.kbps}>
                  <td>
                    <div
                      className="h-3 border border-secondary"
                      style={{ width: `${(100 * s.kbps) / most}%` }}
                      aria-hidden="true"
                    >
                      <div
                        className="h-full bg-primary"
                        style={{ width: `${Math.min(100, (100 * s["there-kbps"]) / Math.max(1, s.kbps))}%` }}
                      />
                    </div>
                  </td>
                  <td className="text-right">{mbps(s.kbps / 1000)}</td>
                  <td className="text-right">{mbps(s["there-kbps"] / 1000)}</td>
                  <td className={`text-right ${s.sent - s.there > s.sent / 100 ? "text-error" : ""}`}>
                    {s.sent ? `${((100 * (s.sent - s.there)) / s.sent).toFixed(1)} %` : "–"}
                  </td>
                  <td className="text-right">{ms(s.latency)}</td>
                  <td className="text-right">{ms(s["max-latency"])}</td>
                  <td className="text-right">{ms(s.jitter)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <p className="text-secondary text-[13px]">
            Rates in the table are of packets in the tunnel, {r.size} bytes each.
          </p>
        </>
      )}
    </section>
  );
}
