import { Link } from "react-router";
import { endsShown, useGateway, useNow, useOffers } from "../../api/gateways";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useSites } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { count, many } from "../../parts/number";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { LastHour } from "./last-hour";
import { TunnelEnds } from "./tunnel-ends";

/**
 * LinkPage is the page of one WAN link. The engineer wants to know whether the circuit does what it
 * is paid for, and what hangs on it; they compare what the survey says with what is seen.
 */
export default function LinkPage() {
  const at = usePlace();
  const [params] = useAddress();
  const site = params.get("site") ?? "";
  const link = params.get("link") ?? "";
  const name = useSites(at).data?.find((s) => s.key === site)?.name || site;
  const now = useGateway(at.estate, site, true, endsShown({ link }));
  const g = now.data;
  const seen = g?.wan_links.find((l) => l.link === link);
  const { matching: all, matching_dead: dead } = g ?? { matching: 0, matching_dead: 0 };
  return (
    <div className="pb-10">
      <StageHead
        title={`${link} of ${name}`}
        actions={
          <>
            <Link className="btn btn-sm" to={`${pageOf(at)}/survey?${new URLSearchParams({ site })}`}>
              Survey
            </Link>
            <Link
              className="btn btn-sm"
              to={`${pageOf(at)}/outages?${new URLSearchParams({ fail: `link:${site}/${link}` })}`}
            >
              What if it fails?
            </Link>
            <Link
              className="btn btn-sm"
              to={`${pageOf(at)}/watch/-/time?${new URLSearchParams({ site, link, hours: "168" })}`}
            >
              Over time
            </Link>
          </>
        }
      >
        <Link className="link" to={`${pageOf(at)}/watch`}>
          Watch
        </Link>{" "}
        ·{" "}
        <Link className="link" to={`${pageOf(at)}/watch/${site}`}>
          {site}
        </Link>{" "}
        · WAN link
      </StageHead>
      <div className="px-6">
        {g === null ? <p>○ No gateway has joined for this site yet, so nothing is seen of it.</p> : null}
        <Trouble error={now.error} />
        {now.isPending && !now.error ? <Waiting what="the link" /> : null}
        {g && !seen ? (
          <p>
            ○ The gateway of {site} reports no link {link}.
          </p>
        ) : null}
        {g && seen ? (
          <>
            <p className="text-base mb-2" role="status" data-testid="link-state">
              {all === 0 ? (
                "○ No tunnel goes by it."
              ) : dead === all ? (
                <strong className="text-error">
                  ■ {all === 1 ? "Its one tunnel is dead" : `None of its ${count(all)} tunnels is alive`}
                  {seen.next_hop_up ? ", though its next hop answers" : ", and its next hop is silent"}.
                </strong>
              ) : dead > 0 ? (
                <strong>
                  ▲ {dead} of its {many(all, "tunnel")} {dead === 1 ? "is" : "are"} dead.
                </strong>
              ) : all === 1 ? (
                "✓ Its one tunnel lives."
              ) : (
                `✓ All of its ${count(all)} tunnels live.`
              )}
              {g.up ? "" : " This is what its gateway reported last: it is away."}
            </p>
            <Named at={at} site={site} link={link} />
            <div className="grid grid-cols-[minmax(0,1.1fr)_minmax(0,1fr)] gap-x-8 items-start">
              <Compared at={at} site={site} link={link} />
              <div className="min-w-0">
                <LastHour at={at} subject={{ site, link }} events />
              </div>
            </div>
            <TunnelEnds at={at} site={site} of={{ link }} />
          </>
        ) : null}
      </div>
    </div>
  );
}

/** What Watch says of the link by name. */
function Named({ at, site, link }: { at: Place; site: string; link: string }) {
  const t = useNow(at.estate).data?.troubles.find((x) => x.site === site && x.link === link);
  return t ? (
    <p className="mb-3">
      {t.words.charAt(0).toUpperCase() + t.words.slice(1)}
      {t.sure === "sure" ? "" : `, ${t.sure}`}. {t.repair.words}
    </p>
  ) : null;
}

/** What the survey says of the link, line by line beside what is seen. */
function Compared({ at, site, link }: { at: Place; site: string; link: string }) {
  const offers = useOffers(at, site);
  const list = offers.data?.[0]?.offers.filter((o) => o.id.startsWith(`link:${link}:`)) ?? [];
  const about = new RegExp(`^(.*) of WAN link ${link}$`);
  return (
    <section className="mb-4">
      <h2 className="text-lg">Surveyed and seen</h2>
      <Trouble error={offers.error} />
      {offers.isPending && !offers.error ? <Waiting what="what its gateway sees" /> : null}
      {offers.data && list.length === 0 ? (
        <p className="text-secondary">Its gateway has offered nothing of it yet.</p>
      ) : null}
      {list.length > 0 ? (
        <table className="ruled" data-testid="compared">
          <thead>
            <tr>
              <th>What</th>
              <th>The survey says</th>
              <th>Seen</th>
              <th>
                <span className="sr-only">Whether they differ</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.map((o) => (
              <tr key={o.id}>
                <td>{about.exec(o.about)?.[1] ?? o.about}</td>
                <td className="font-mono text-[13px] wrap-anywhere">{o.survey || "nothing"}</td>
                <td className="font-mono text-[13px] wrap-anywhere">{o.seen}</td>
                <td className="whitespace-nowrap">
                  {o.differs ? (
                    <Link
                      className="link text-warning"
                      to={`${pageOf(at)}/survey?${new URLSearchParams({ site })}`}
                    >
                      ▲ differs
                    </Link>
                  ) : o.missing ? (
                    <span className="text-secondary">○ not surveyed</span>
                  ) : (
                    "✓"
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
    </section>
  );
}
