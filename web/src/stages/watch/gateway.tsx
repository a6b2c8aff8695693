import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import type { GatewayNow, NewCode } from "../../api/client";
import {
  clockText,
  useBar,
  useBring,
  useGateway,
  useGateways,
  useJoinCode,
  useOffers,
  useWithdrawCode,
} from "../../api/gateways";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useEstate, useSites } from "../../api/queries";
import { Copy } from "../../parts/copy";
import { download } from "../../parts/download";
import { many } from "../../parts/number";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";
import { Drift } from "./drift";
import { Keys } from "./keys";
import { Stands } from "./stands";
import { TunnelEnds } from "./tunnel-ends";

/** Gateway is the page of one gateway: its line, what it runs, its WAN links, its tunnels. */
export default function Gateway() {
  const at = usePlace();
  const { site = "" } = useParams();
  const head = useEstate(at).data;
  const now = useGateway(at.estate, site);
  const name = useSites(at).data?.find((s) => s.key === site)?.name || site;
  const operates = head?.role === "operator" || head?.role === "owner";
  const g = now.data;
  return (
    <div className="pb-10">
      <StageHead
        title={name}
        actions={
          <>
            <Link className="btn btn-sm" to={`${pageOf(at)}/survey?site=${site}`}>
              Survey
            </Link>
            <Link className="btn btn-sm" to={`${pageOf(at)}/paths/${site}`}>
              Design
            </Link>
            {g && operates ? <Acts at={at} g={g} release={head?.release ?? 0} /> : null}
          </>
        }
      >
        <Link className="link" to={`${pageOf(at)}/watch`}>
          All gateways
        </Link>{" "}
        · <span className="font-mono">{site}</span>
      </StageHead>
      <div className="px-6">
        <Trouble error={now.error} />
        {now.isPending ? <Waiting what="the gateway" /> : null}
        {g === null ? (
          <p className="mb-3">○ No gateway has joined for this site yet.</p>
        ) : g ? (
          <>
            {g.phase === "differs" && g.digest && operates ? (
              <Drift at={at} g={g} fixed={head?.fixed ?? true} />
            ) : null}
            <Facts at={at} g={g} />
            <Links at={at} g={g} />
            <TunnelEnds at={at} site={site} />
            {operates && !head?.fixed && !g.barred_at ? <Keys key={site} at={at} site={site} /> : null}
          </>
        ) : null}
        {operates && now.isFetched ? <Joining key={site} at={at} site={site} again={g != null} /> : null}
      </div>
    </div>
  );
}

function Facts({ at, g }: { at: Place; g: GatewayNow }) {
  const offers = useOffers(at, g.site).data?.[0];
  const fact = (what: string, value: React.ReactNode) => (
    <>
      <dt className="text-secondary">{what}</dt>
      <dd>{value}</dd>
    </>
  );
  return (
    <dl className="grid grid-cols-[9rem_1fr] gap-y-0.5 max-w-3xl mb-4" data-testid="facts">
      {fact(
        "State",
        <>
          <Stands g={g} />
          {g.words && g.phase !== "differs" ? <span className="text-secondary">: {g.words}</span> : null}
        </>,
      )}
      {fact(
        "Runs",
        <>
          {g.release ? `release ${g.release}` : g.digest ? "what was set by hand" : "nothing yet"}
          {g.trial
            ? `, on trial for ${g.trial_left} s more`
            : g.confirmed
              ? `; confirmed: release ${g.confirmed}`
              : ""}
        </>,
      )}
      {fact(
        "Line",
        g.since ? (
          <>
            {g.up ? "since " : "lost "}
            <When at={g.since} />
            {g.up ? "" : ". It keeps what it has; nothing can be brought there while that lasts"}
          </>
        ) : (
          "never called"
        ),
      )}
      {fact("Clock", Math.abs(g.clock_ms) >= 3000 ? clockText(g.clock_ms) : "right")}
      {fact(
        "Certificate",
        <>
          until <When at={g.expires_at} />, renewed by itself at half its time
        </>,
      )}
      {fact(
        "Offers",
        offers === undefined ? (
          "–"
        ) : offers.open > 0 ? (
          <Link className="link link-primary" to={`${pageOf(at)}/survey?site=${g.site}`}>
            {many(offers.open, "thing differs", "things differ")} from the survey
          </Link>
        ) : (
          "what it sees is what the survey says"
        ),
      )}
    </dl>
  );
}

function Links({ at, g }: { at: Place; g: GatewayNow }) {
  if (g.wan_links.length === 0) {
    return null;
  }
  const yes = (is: boolean) => (is ? "answers" : <strong className="text-error">■ silent</strong>);
  return (
    <section className="mb-4 max-w-4xl">
      <h2 className="text-lg">WAN links</h2>
      <table className="ruled">
        <thead>
          <tr>
            <th>Link</th>
            <th>Next hop</th>
            <th>Name service</th>
            <th>Addresses</th>
            <th>Seen from outside as</th>
            <th className="text-right">Path MTU</th>
          </tr>
        </thead>
        <tbody>
          {g.wan_links.map((l) => (
            <tr key={l.link}>
              <td>
                <Link className="link" to={`${pageOf(at)}/watch/-/link?site=${g.site}&link=${l.link}`}>
                  {l.link}
                </Link>
              </td>
              <td>{yes(l.next_hop_up)}</td>
              <td>{l.names_up ? "answers" : <span className="text-secondary">silent</span>}</td>
              <td className="font-mono text-[13px]">{l.addresses.join(", ")}</td>
              <td className="font-mono text-[13px]">{l.seen_outside || "–"}</td>
              <td className="text-right tabular-nums">{l.path_mtu || "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Acts({ at, g, release }: { at: Place; g: GatewayNow; release: number }) {
  const bar = useBar(at.estate, g.site);
  const bring = useBring(at.estate);
  const again = g.phase === "went-back" || g.phase === "failed";
  return (
    <>
      <Trouble error={bar.error ?? bring.error} />
      {release > 0 && !g.barred_at && (again || (g.confirmed !== release && g.wanted !== release)) ? (
        <button
          type="button"
          className="btn btn-sm"
          disabled={bring.isPending}
          onClick={() => bring.mutate({ release, sites: [g.site] })}
        >
          {again ? `Try release ${release} again` : `Bring it to release ${release}`}
        </button>
      ) : null}
      <button
        type="button"
        className="btn btn-sm"
        disabled={bar.isPending}
        onClick={() => bar.mutate(!g.barred_at)}
        title={
          g.barred_at
            ? "It may call again with the certificate it has"
            : "It is refused from now on; what it runs stays"
        }
      >
        {g.barred_at ? "Let it in again" : "Bar it"}
      </button>
    </>
  );
}

/** Joining gives a code by which a machine becomes the gateway of the site. */
function Joining({ at, site, again }: { at: Place; site: string; again: boolean }) {
  const list = useGateways(at.estate).data;
  const code = useJoinCode(at.estate, site);
  const withdraw = useWithdrawCode(at.estate, site);
  const [hours, setHours] = useState(24);
  const file = useMutation({
    mutationFn: () => download(`/api/estates/${at.estate}/gateways/${site}/cloud-init`, { hours }),
  });
  const waits = list?.codes.find((c) => c.site === site);
  return (
    <section className="max-w-3xl border-t border-base-300 pt-3">
      <h2 className="text-lg">{again ? "Join anew" : "Join"}</h2>
      <p className="text-secondary text-[13px] mb-2">
        {again
          ? "Another machine, or this one with a new key, joins in its place by a new code."
          : "A machine becomes this site's gateway by a code that is used once. It makes its own keys."}
      </p>
      <form
        className="flex gap-2 items-end"
        onSubmit={(e) => {
          e.preventDefault();
          code.mutate(hours);
        }}
      >
        <label className="text-xs text-secondary">
          May be used for
          <select className="cell block" value={hours} onChange={(e) => setHours(Number(e.target.value))}>
            <option value={1}>an hour</option>
            <option value={24}>a day</option>
            <option value={168}>a week</option>
            <option value={720}>30 days</option>
          </select>
        </label>
        <button type="submit" className="btn btn-sm btn-primary" disabled={code.isPending || !list?.taken}>
          Make a join code
        </button>
        <button
          type="button"
          className="btn btn-sm"
          disabled={!list?.taken}
          title="A file for a new machine's first start: it gets the program here, joins, and calls"
          onClick={() => file.mutate()}
        >
          Make a cloud-init file
        </button>
        {waits && !code.data ? (
          <span className="text-[13px]">
            ○ A code of {waits.author} waits until <When at={waits.ends_at} />.{" "}
            <button type="button" className="link link-primary" onClick={() => withdraw.mutate()}>
              Take it back
            </button>
          </span>
        ) : null}
      </form>
      <Trouble error={code.error ?? withdraw.error ?? file.error} />
      {code.data ? <Code made={code.data} /> : null}
    </section>
  );
}

function Code({ made }: { made: NewCode }) {
  return (
    <div className="mt-3 border-l-4 border-primary pl-3" role="status">
      <p>
        Run this on the machine, as root. It is shown once, and ends <When at={made.ends_at} />. Whoever has
        it can join in its place.
      </p>
      <pre className="font-mono text-[13px] whitespace-pre-wrap break-all my-2" data-testid="join-code">
        wideknot gateway join {made.code}
      </pre>
      <Copy text={`wideknot gateway join ${made.code}`} />
    </div>
  );
}
