import { Link } from "react-router";
import type { BothEnds, TunnelNow } from "../../api/client";
import { useGateway, useGateways, useNow } from "../../api/gateways";
import { useBothEnds } from "../../api/paths";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useAddress } from "../../parts/address";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { EndsNow } from "./ends-now";
import { LastHour } from "./last-hour";
import { Sessions } from "./sessions";
import { StateOf } from "./tunnel-ends";

/**
 * Tunnel is the page of one tunnel. The engineer wants to know whether it is as designed, and if not
 * at which end; they compare one end with the other, and both with the design.
 */
export default function Tunnel() {
  const at = usePlace();
  const [params] = useAddress();
  const overlay = params.get("overlay") ?? "";
  const tunnel = params.get("tunnel") ?? "";
  const sheet = useBothEnds(at, overlay, tunnel);
  const s = sheet.data;
  const pair = s ? new URLSearchParams({ a: s.a, b: s.b }) : "";
  return (
    <div className="pb-10">
      <StageHead
        title={tunnel || "Tunnel"}
        actions={
          s ? (
            <>
              <Link
                className="btn btn-sm"
                to={`${pageOf(at)}/paths/-/tunnel?${new URLSearchParams({ overlay, tunnel })}`}
              >
                Design
              </Link>
              <Link className="btn btn-sm" to={`${pageOf(at)}/watch/-/pair?${pair}`}>
                The pair
              </Link>
              <Link
                className="btn btn-sm"
                to={`${pageOf(at)}/watch/-/why?${new URLSearchParams({ from: s.a, to: s.b })}`}
              >
                Why does it not arrive?
              </Link>
            </>
          ) : null
        }
      >
        <Link className="link" to={`${pageOf(at)}/watch`}>
          Watch
        </Link>{" "}
        · {s ? `${s.overlay}, choice ${s.rank} of ${s.of} between ${s.a} and ${s.b}` : overlay}
      </StageHead>
      <div className="px-6">
        <Trouble error={sheet.error} />
        {sheet.isPending && !sheet.error ? <Waiting what="the tunnel" /> : null}
        {s ? <Live at={at} sheet={s} /> : null}
      </div>
    </div>
  );
}

function Live({ at, sheet }: { at: Place; sheet: BothEnds }) {
  const gateways = useGateways(at.estate);
  const joined = new Set((gateways.data?.gateways ?? []).map((g) => g.site));
  const of = { overlay: sheet.overlay, tunnel: sheet.tunnel };
  const a = useGateway(at.estate, sheet.a, joined.has(sheet.a), of).data;
  const b = useGateway(at.estate, sheet.b, joined.has(sheet.b), of).data;
  const end = (list?: TunnelNow[]) =>
    list?.find((t) => t.overlay === sheet.overlay && t.tunnel === sheet.tunnel);
  const ends = [
    { site: sheet.a, is: end(a?.tunnel_ends) },
    { site: sheet.b, is: end(b?.tunnel_ends) },
  ];
  if (gateways.isPending) {
    return <Waiting what="the gateways" />;
  }
  if (!joined.has(sheet.a) && !joined.has(sheet.b)) {
    return (
      <p>
        ○ Neither {sheet.a} nor {sheet.b} has a gateway that joined, so nothing is seen of it.
      </p>
    );
  }
  return (
    <>
      <p className="text-base mb-2 flex flex-wrap gap-x-8" role="status" data-testid="tunnel-state">
        {ends.map((e) => (
          <span key={e.site}>
            <Link className="link" to={`${pageOf(at)}/watch/${e.site}`}>
              {e.site}
            </Link>
            : {e.is ? <StateOf t={e.is} /> : <span className="text-secondary">○ reports nothing of it</span>}
          </span>
        ))}
      </p>
      <CauseOf at={at} sheet={sheet} links={ends.map((e) => `${e.site}/${e.is?.link ?? ""}`)} />
      <div className="max-w-5xl">
        <EndsNow at={at} sheet={sheet} />
      </div>
      <Sessions
        at={at}
        ends={ends.flatMap((e) => (e.is ? [{ site: e.site, interface: e.is.interface }] : []))}
      />
      <div className="grid grid-cols-2 gap-x-8">
        {ends.map((e, i) =>
          e.is ? (
            <section key={e.site} className="min-w-0" data-end={e.site}>
              <h2 className="text-lg">
                The last hour as {e.site} sees it{" "}
                <Link
                  className="link font-sans text-[13px]"
                  to={`${pageOf(at)}/watch/-/bench?site=${e.site}&interface=${e.is.interface}`}
                >
                  Test throughput
                </Link>
              </h2>
              <LastHour at={at} subject={{ site: e.site, interface: e.is.interface }} events={i === 0} />
            </section>
          ) : null,
        )}
      </div>
    </>
  );
}

/** Why the tunnel is dead or poor, as Watch names it. */
function CauseOf({ at, sheet, links }: { at: Place; sheet: BothEnds; links: string[] }) {
  const troubles = (useNow(at.estate).data?.troubles ?? []).filter(
    (t) => t.dead.includes(sheet.tunnel) || links.includes(`${t.site}/${t.link}`),
  );
  return (
    <>
      {troubles.slice(0, 3).map((t) => (
        <p key={`${t.code} ${t.site} ${t.link} ${t.part}`} className="mb-2">
          <strong>▲ Cause: {t.words}</strong>
          {t.sure === "sure" ? "" : `, ${t.sure}`}. {t.repair.words}
        </p>
      ))}
    </>
  );
}
