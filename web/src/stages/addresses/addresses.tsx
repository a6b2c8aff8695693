import { Link } from "react-router";
import type { Held } from "../../api/client";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useEstate, useFindings, useMayEdit } from "../../api/queries";
import { useReserve, useSpace } from "../../api/space";
import { useAddress } from "../../parts/address";
import { FindingList } from "../../parts/findings";
import { many } from "../../parts/number";
import { Repairs } from "../../parts/repairs";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { Room } from "./room";
import { Ruler } from "./ruler";

/** Addresses draws who has which addresses, and lists what collides. */
export default function Addresses() {
  const at = usePlace();
  const findings = useFindings(at);
  const head = useEstate(at).data;
  const [params, set] = useAddress();
  const space = useSpace(at, params.get("within") ?? "");
  const here = (findings.data ?? []).filter((f) => f.stage === "addresses");
  const elsewhere = (findings.data ?? []).length - here.length;
  const held = space.data?.held ?? [];
  const chosen = held.find(
    (h) => h.prefix === params.get("prefix") && (h.site ?? "") === (params.get("site") ?? ""),
  );
  return (
    <div className="pb-4 h-full flex flex-col">
      <StageHead title="Addresses">
        Who has which addresses, what is free, what collides, and what is the way out of each?
      </StageHead>
      <div className="px-6 grow min-h-0 grid grid-cols-[minmax(0,1.5fr)_minmax(300px,1fr)] gap-6">
        <section className="min-h-0 flex flex-col">
          <Legend />
          <Trouble error={space.error} />
          {space.isPending ? <Waiting what="the address space" /> : null}
          {space.data && held.length > 0 ? (
            <div className="grow min-h-0">
              <Ruler
                space={space.data}
                within={params.get("within") ?? ""}
                chosen={`${params.get("site") ?? ""} ${params.get("prefix") ?? ""}`}
                onZoom={(within) => set({ within })}
                onChoose={(b) => set({ prefix: b.prefix, site: b.site ?? "" })}
              />
            </div>
          ) : null}
          {space.data && held.length === 0 ? (
            <p className="py-4">
              Nothing has an address yet. Subnets come in with the{" "}
              <Link className="link link-primary" to={`${pageOf(at)}/survey/import`}>
                sheets
              </Link>
              ; regions and their blocks are set in Survey.
            </p>
          ) : null}
        </section>
        <aside className="min-h-0 overflow-auto space-y-5 pr-1">
          {chosen ? <Chosen at={at} block={chosen} onClose={() => set({ prefix: "", site: "" })} /> : null}
          {head ? <Room at={at} head={head} onShow={(within) => set({ within })} /> : null}
          <section aria-label="Collisions">
            <h2 className="text-lg">Collisions and pools</h2>
            <Trouble error={findings.error} />
            {findings.data ? (
              <Repairs at={at}>
                <FindingList
                  at={at}
                  findings={here}
                  none="No two subnets that can reach each other overlap, and no transit pool meets anything."
                />
              </Repairs>
            ) : null}
            {elsewhere > 0 ? (
              <p className="py-2">
                <Link className="link link-primary" to={`${pageOf(at)}/findings`}>
                  {many(elsewhere, "finding")} of the other stages
                </Link>
              </p>
            ) : null}
          </section>
        </aside>
      </div>
    </div>
  );
}

function Legend() {
  const swatch = "inline-block w-5 h-3 border align-middle mr-1";
  return (
    <p className="flex gap-4 text-xs text-secondary pb-1">
      <span>
        <span className={`${swatch} bg-primary/30 border-primary`} />
        shared
      </span>
      <span>
        <span className={`${swatch} bg-base-300 border-secondary`} />
        shared nowhere
      </span>
      <span>
        <span className={`${swatch} clash border-error`} />■ collides
      </span>
      <span>
        <span className={`${swatch} bg-info/25 border-info`} />
        transit pool
      </span>
      <span>
        <span className={`${swatch} border-dashed border-base-content`} />
        reserved
      </span>
      <span>
        <span className={`${swatch} border-dotted border-primary`} />
        stands for a mapped subnet
      </span>
    </p>
  );
}

/** What is known of the block that was chosen on the ruler. */
function Chosen({ at, block: b, onClose }: { at: Place; block: Held; onClose: () => void }) {
  const reserve = useReserve(at);
  const mayEdit = useMayEdit(at);
  return (
    <section aria-label="Chosen block" className="border border-base-content p-3">
      <h2 className="text-base font-mono flex">
        {b.prefix}
        <button type="button" className="ml-auto btn btn-xs" onClick={onClose} aria-label="Close">
          ×
        </button>
      </h2>
      <p>
        {b.what === "transit" ? `Transit pool of ${b.overlay}` : ""}
        {b.what === "reserved" ? `Kept for ${b.name}` : ""}
        {b.what === "map" ? `Stands for ${b.mapped} at ${b.site}` : ""}
        {b.what === "subnet"
          ? `${b.name || "Subnet"} at ${b.site}${b.zone ? `, zone ${b.zone}` : ""}; ${b.share.length > 0 ? `shared into ${b.share.join(" and ")}` : "shared nowhere"}`
          : ""}
      </p>
      {b.clash ? (
        <p className={b.clash === "error" ? "text-error" : "text-secondary"}>
          {b.clash === "error" ? "■ It collides; see below." : `There is a ${b.clash} about it.`}
        </p>
      ) : null}
      <p className="flex gap-4 pt-1">
        {b.site ? (
          <>
            <Link
              className="link link-primary"
              to={`${pageOf(at)}/survey?${new URLSearchParams({ site: b.site, prefix: b.what === "map" ? (b.mapped ?? "") : b.prefix })}`}
            >
              Edit in Survey
            </Link>
            <Link className="link link-primary" to={`${pageOf(at)}/paths/${b.site}`}>
              Paths of {b.site}
            </Link>
          </>
        ) : null}
        {b.overlay ? (
          <Link className="link link-primary" to={`${pageOf(at)}/shape?overlay=${b.overlay}`}>
            Shape of {b.overlay}
          </Link>
        ) : null}
        {b.what === "reserved" && mayEdit ? (
          <button
            type="button"
            className="link"
            onClick={() => reserve.mutate({ prefix: b.prefix, for: "" }, { onSuccess: onClose })}
          >
            Free it
          </button>
        ) : null}
      </p>
      <Trouble error={reserve.error} />
    </section>
  );
}
