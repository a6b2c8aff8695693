import { ArrowUp } from "lucide-react";
import { Link } from "react-router";
import type { PairSheet, ShapedOverlay } from "../../api/client";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useMayEdit } from "../../api/queries";
import { useDirect, usePair, useTunnelOrder } from "../../api/shape";
import { lookAt } from "../../parts/look";
import { shareText } from "../../parts/share";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** Pair shows all that can join two sites: links × links, and the tunnels in rank order. */
export function Pair(props: {
  at: Place;
  overlay: ShapedOverlay;
  a: string;
  b: string;
  onClose: () => void;
}) {
  const { at, overlay } = props;
  const pair = usePair(at, overlay.key, props.a, props.b);
  const order = useTunnelOrder(at, overlay.key, props.a, props.b);
  const direct = useDirect(at, overlay.key, props.a, props.b);
  const mayEdit = useMayEdit(at);
  const s = pair.data;
  const hub = (key: string) => (overlay.hubs ?? []).includes(key);
  const listed = (overlay.direct ?? []).some((d) => d.includes(props.a) && d.includes(props.b));
  // Tunnels that share the load are raised together, above whatever group stands before theirs.
  const raise = (sheet: PairSheet, i: number) => {
    const groups = [...Map.groupBy(sheet.tunnels, (t, at) => t.share?.lead ?? at + 1).values()];
    const at = groups.findIndex((g) => g[0]?.tunnel === sheet.tunnels[i]?.tunnel);
    const [one] = groups.splice(at, 1);
    groups.splice(at - 1, 0, one as PairSheet["tunnels"]);
    order.mutate(
      groups
        .slice(0, at)
        .flat()
        .map((t) => t.tunnel),
    );
  };
  return (
    <section
      aria-label="Pair"
      className="border border-base-content p-3 text-[13px] overflow-auto max-h-full"
    >
      <h2 className="text-base flex gap-2">
        {props.a} — {props.b}
        <Link
          className="link font-sans text-[13px] font-normal self-center"
          to={`${pageOf(props.at)}/watch/-/pair?${new URLSearchParams({ a: props.a, b: props.b })}`}
        >
          Watch
        </Link>
        <button
          type="button"
          className="btn btn-xs ml-auto"
          aria-label="Close the pair"
          onClick={props.onClose}
        >
          ×
        </button>
      </h2>
      <Trouble error={pair.error ?? order.error ?? direct.error} />
      {pair.isPending ? <Waiting what="the pair" /> : null}
      {s ? (
        <>
          <Matrix sheet={s} />
          {s.tunnels.length > 0 ? (
            <>
              <h3 className="text-sm mt-2">In rank order, at both ends</h3>
              <ol>
                {s.tunnels.map((t, i) => (
                  <RankedTunnel
                    key={t.tunnel}
                    overlay={overlay.key}
                    sheet={s}
                    place={i}
                    busy={order.isPending}
                    onRaise={mayEdit ? () => raise(s, i) : undefined}
                  />
                ))}
              </ol>
              {s.ordered ? (
                <p className="pt-1">
                  You put some first.{" "}
                  {mayEdit ? (
                    <button type="button" className="link" onClick={() => order.mutate([])}>
                      Let the links' ranks decide again
                    </button>
                  ) : null}
                </p>
              ) : null}
            </>
          ) : (
            <p className="py-1 font-semibold">
              {s.joined ? "▲ No tunnel can join these two." : "The overlay does not join these two."}{" "}
              {s.via.length > 0
                ? `Their traffic goes by ${s.via.join(" and ")}.`
                : "No hub carries their traffic either."}
            </p>
          )}
          {mayEdit && overlay.shape !== "full-mesh" && !hub(props.a) && !hub(props.b) ? (
            <button
              type="button"
              className="btn btn-xs mt-2"
              disabled={direct.isPending}
              onClick={() => direct.mutate(!listed)}
            >
              {listed ? "No longer join them directly" : "Join them directly"}
            </button>
          ) : null}
        </>
      ) : null}
    </section>
  );
}

/** Links of the one site × links of the other, each pair's rank or what keeps it apart. */
function Matrix({ sheet: s }: { sheet: PairSheet }) {
  const rank = new Map(s.tunnels.map((t, i) => [`${t.link_a} ${t.link_b}`, i + 1]));
  const why = new Map(s.kept_apart.map((k) => [`${k.link_a} ${k.link_b}`, k.why]));
  return (
    <>
      <table className="mt-1">
        <thead>
          <tr className="text-xs text-secondary">
            <td className="pr-2">
              {s.a} ↓ {s.b} →
            </td>
            {s.links_b.map((b) => (
              <th key={b} className="font-mono px-2 text-left" scope="col">
                {b}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {s.links_a.map((a) => (
            <tr key={a}>
              <th className="font-mono text-xs text-secondary pr-2 text-left" scope="row">
                {a}
              </th>
              {s.links_b.map((b) => (
                <td
                  key={b}
                  className="border border-base-300 px-2 py-0.5 text-center"
                  title={why.get(`${a} ${b}`)}
                >
                  {rank.get(`${a} ${b}`) ?? <span className="text-secondary">—</span>}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {s.kept_apart.length > 0 ? (
        <ul className="text-xs text-secondary mt-1">
          {s.kept_apart.slice(0, 6).map((k) => (
            <li key={`${k.link_a} ${k.link_b}`}>
              <span className="font-mono">
                {k.link_a} — {k.link_b}
              </span>
              : {k.why}
            </li>
          ))}
          {s.kept_apart.length > 6 ? <li>and {s.kept_apart.length - 6} more</li> : null}
        </ul>
      ) : null}
    </>
  );
}

/** RankedTunnel is one tunnel of the pair, at its rank. */
function RankedTunnel(props: {
  overlay: string;
  sheet: PairSheet;
  place: number;
  busy: boolean;
  onRaise?: () => void;
}) {
  const { sheet: s, place: i } = props;
  const at = usePlace();
  const t = s.tunnels[i] as PairSheet["tunnels"][number];
  return (
    <li
      data-look={lookAt({ kind: "tunnel", overlay: props.overlay, tunnel: t.tunnel })}
      className="flex gap-2 items-center border-b border-base-300 py-0.5"
    >
      <span className="w-4 text-right text-secondary">{i + 1}</span>
      <Link
        className="link link-hover font-mono grow truncate"
        to={`${pageOf(at)}/paths/-/tunnel?${new URLSearchParams({ overlay: props.overlay, tunnel: t.tunnel })}`}
        title="Both ends of this tunnel"
      >
        {t.link_a} — {t.link_b}
        {t.share ? (
          <span className="block font-sans text-xs text-secondary">{shareText(t.share)}</span>
        ) : null}
      </Link>
      <span className="text-secondary whitespace-nowrap">
        MTU {t.mtu},{" "}
        {t.opens === "nobody"
          ? "▲ nobody can open it"
          : t.opens === "both"
            ? "either opens"
            : `${t.opens === "a" ? s.a : s.b} opens`}
      </span>
      {props.onRaise ? (
        <button
          type="button"
          className="btn btn-xs btn-square"
          aria-label={`Raise ${t.link_a} — ${t.link_b}`}
          disabled={
            (t.share?.lead ?? i + 1) === 1 || (t.share ? t.share.lead !== i + 1 : false) || props.busy
          }
          onClick={props.onRaise}
        >
          <ArrowUp size={12} />
        </button>
      ) : null}
    </li>
  );
}
