import { Link } from "react-router";
import type { Now as NowAnswer, Trouble as TroubleSheet } from "../../api/client";
import { useNow } from "../../api/gateways";
import { type Place, pageOf } from "../../api/place";
import { count, many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { When } from "../../parts/when";
import { Where } from "./where";

/**
 * Now says what is not as designed, worst first, each thing once with all that it explains. The
 * engineer on call wants to know whether anybody is cut, why, and what to do before morning.
 */
export function Now({ at }: { at: Place }) {
  const now = useNow(at.estate);
  if (now.error || !now.data || now.data.joined === 0 || now.data.release === 0) {
    return <Trouble error={now.error} />;
  }
  return (
    <section className="mb-4" aria-label="What is not as designed" data-testid="now">
      <p role="status" className="mb-1">
        <Sum now={now.data} />
      </p>
      {now.data.troubles.length > 0 ? (
        <ol className="border-t border-base-content max-h-[19rem] overflow-auto">
          {now.data.troubles.map((t) => (
            <Line key={`${t.code} ${t.site} ${t.link} ${t.part} ${t.overlay} ${t.pair}`} at={at} t={t} />
          ))}
        </ol>
      ) : null}
    </section>
  );
}

/** All of it in one sentence. */
function Sum({ now }: { now: NowAnswer }) {
  if (now.troubles.length === 0) {
    return (
      <>
        ✓ All is as designed: {many(now.there, "gateway")} there, {many(now.tunnels, "tunnel")} up, by release{" "}
        {now.release}.
      </>
    );
  }
  return (
    <>
      {now.cut > 0 ? (
        <strong className="text-error">
          ■ {many(now.cut, "pair of sites is", "pairs of sites are")} cut
          {now.cut_sites.length > 0 ? ` (${now.cut_sites.join(", ")})` : ""}.{" "}
        </strong>
      ) : (
        <strong>Nobody is cut. </strong>
      )}
      {now.squeezed > 0 ? `${many(now.squeezed, "pair has", "pairs have")} too little room. ` : ""}
      {many(now.troubles.length, "thing is", "things are")} not as designed
      {now.dead > 0 ? `; ${many(now.dead, "tunnel is", "tunnels are")} dead of ${count(now.tunnels)}` : ""}
      {now.dead_ways > 0
        ? `; ${many(now.dead_ways, "way of a gateway leads", "ways of gateways lead")} nowhere`
        : ""}
      .
    </>
  );
}

function Line({ at, t }: { at: Place; t: TroubleSheet }) {
  const bad = t.cut > 0 || t.squeezed > 0;
  return (
    <li className="grid grid-cols-[1.25rem_minmax(0,1fr)_auto] gap-x-3 py-1.5 border-b border-base-300">
      <span className={bad ? "text-error" : "text-warning"} aria-hidden="true">
        {bad ? "■" : "▲"}
      </span>
      <div>
        <p>
          <strong className="font-semibold">{t.words.charAt(0).toUpperCase() + t.words.slice(1)}</strong>
          {t.sure === "sure" ? null : <span className="text-secondary">, {t.sure}</span>}
          {t.tunnels > 1 ? `; it explains ${many(t.tunnels, "tunnel")}` : ""}
          {t.since ? (
            <>
              {" "}
              since <When at={t.since} />
            </>
          ) : null}
        </p>
        {t.foreseen ? <Foreseen at={at} t={t} /> : null}
        <p className="text-secondary">{t.repair.words}</p>
      </div>
      <span className="whitespace-nowrap">
        <Where at={at} of={t} />
      </span>
    </li>
  );
}

/** What its failure does, as the outage of its part foresees. */
function Foreseen({ at, t }: { at: Place; t: TroubleSheet }) {
  return (
    <p>
      As foreseen:{" "}
      {t.cut > 0 ? (
        <strong className="text-error">
          {many(t.cut, "pair is", "pairs are")} cut
          {t.cut_sites.length > 0 ? ` (${t.cut_sites.join(", ")})` : ""}
        </strong>
      ) : (
        "nobody is cut"
      )}
      {t.moved + t.squeezed > 0
        ? `; ${many(t.moved + t.squeezed, "pair goes", "pairs go")} by other tunnels${t.squeezed > 0 ? `, ${many(t.squeezed, "of them has", "of them have")} too little room` : ""}`
        : ""}
      .{" "}
      <Link className="link" to={`${pageOf(at)}/outages?${new URLSearchParams({ fail: t.part ?? "" })}`}>
        What carries them
      </Link>
    </p>
  );
}
