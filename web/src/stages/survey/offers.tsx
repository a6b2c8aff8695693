import { useEffect, useRef, useState } from "react";
import { useOffers, useRefuseOffer, useTakeOffers } from "../../api/gateways";
import type { Place } from "../../api/place";
import { useMayEdit } from "../../api/queries";
import { Trouble } from "../../parts/trouble";
import { When } from "../../parts/when";

/** Offers shows what a site's gateway sees, beside what the survey says of it. */
export function Offers({ at, site, onTaken }: { at: Place; site: string; onTaken: () => void }) {
  const list = useOffers(at, site);
  const take = useTakeOffers(at, site);
  const refuse = useRefuseOffer(at, site);
  const mayEdit = useMayEdit(at);
  const [refusing, setRefusing] = useState("");
  const all = list.data?.[0];
  const box = useRef<HTMLElement>(null);
  const any = (all?.open ?? 0) > 0;
  // It comes after the form: where there is something to take, it is brought into sight once.
  useEffect(() => {
    if (any) {
      box.current?.scrollIntoView({ block: "start" });
    }
  }, [any]);
  if (!all) {
    return null;
  }
  const differ = all.offers.filter((o) => o.differs || o.missing);
  const takes = differ.filter((o) => takeable(o.id) && !all.refused[o.id]);
  return (
    <section ref={box} className="mt-3 mb-4 border-l-4 border-primary pl-3" data-testid="offers">
      <h3 className="font-serif font-semibold">
        What the gateway sees
        <span className="text-xs font-sans font-normal text-secondary">
          {" "}
          <When at={all.at} />
        </span>
      </h3>
      {differ.length === 0 ? <p>✓ It is what the survey says.</p> : null}
      <Trouble error={take.error ?? refuse.error} />
      {differ.length > 0 ? (
        <table className="ruled max-w-4xl">
          <thead>
            <tr>
              <th>What</th>
              <th>The survey says</th>
              <th>The gateway sees</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {differ.map((o) => (
              <tr key={o.id} data-offer={o.id}>
                <td>
                  {o.about}
                  {o.matters ? <p className="text-xs text-secondary max-w-md">{o.matters}</p> : null}
                  {(o.collides ?? []).length > 0 ? (
                    <p className="text-xs text-error">■ overlaps {o.collides?.join(", ")}</p>
                  ) : null}
                </td>
                <td className="font-mono text-[13px] wrap-anywhere">{o.survey || "nothing"}</td>
                <td className="font-mono text-[13px] wrap-anywhere">{o.seen}</td>
                <td className="whitespace-nowrap text-[13px]">
                  {all.refused[o.id] ? (
                    <Refused
                      reason={all.refused[o.id] ?? ""}
                      onBack={() => refuse.mutate({ offer: o.id, reason: "" })}
                    />
                  ) : mayEdit && takeable(o.id) ? (
                    refusing === o.id ? (
                      <Reason
                        onDone={(reason) => {
                          setRefusing("");
                          if (reason) {
                            refuse.mutate({ offer: o.id, reason });
                          }
                        }}
                      />
                    ) : (
                      <>
                        <button
                          type="button"
                          className="btn btn-xs btn-primary mr-1"
                          disabled={take.isPending}
                          onClick={() => take.mutate([o.id], { onSuccess: onTaken })}
                        >
                          Take
                        </button>
                        <button type="button" className="btn btn-xs" onClick={() => setRefusing(o.id)}>
                          Refuse
                        </button>
                      </>
                    )
                  ) : null}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      {mayEdit && takes.length > 1 ? (
        <button
          type="button"
          className="btn btn-xs mt-2"
          disabled={take.isPending}
          onClick={() =>
            take.mutate(
              takes.map((o) => o.id),
              { onSuccess: onTaken },
            )
          }
        >
          Take all {takes.length}
        </button>
      ) : null}
    </section>
  );
}

/** Whether there is a value to take: what nobody sees, or no link has, is only said. */
const takeable = (id: string) => !id.startsWith("absent:") && !id.startsWith("device:");

function Refused({ reason, onBack }: { reason: string; onBack: () => void }) {
  return (
    <span className="text-secondary">
      refused: {reason}{" "}
      <button type="button" className="link" onClick={onBack}>
        offer again
      </button>
    </span>
  );
}

function Reason({ onDone }: { onDone: (reason: string) => void }) {
  const [reason, setReason] = useState("");
  return (
    <div className="flex gap-1">
      <input
        className="cell w-44"
        aria-label="Why it is not taken"
        placeholder="Why not?"
        maxLength={300}
        // biome-ignore lint/a11y/noAutofocus: the field was just asked for
        autoFocus
        value={reason}
        onChange={(e) => setReason(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === "Enter" || e.key === "Escape") {
            e.preventDefault(); // the site's form is neither saved nor closed
            e.stopPropagation();
            onDone(e.key === "Enter" ? reason.trim() : "");
          }
        }}
      />
      <button
        type="button"
        className="btn btn-xs"
        disabled={!reason.trim()}
        onClick={() => onDone(reason.trim())}
      >
        Refuse
      </button>
    </div>
  );
}
