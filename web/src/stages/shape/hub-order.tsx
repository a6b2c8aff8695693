import { ArrowDown, ArrowUp, X } from "lucide-react";
import { useRef } from "react";
import type { LedgerSite, Overlay, ShapedOverlay } from "../../api/client";

export const callable = (s: LedgerSite) => (s.links ?? []).some((l) => l.reach !== "nat" && !l.no_tunnels);

/** HubOrder lists the hubs in the order in which spokes without an order of their own use them. */
export function HubOrder(props: {
  overlay: ShapedOverlay;
  sites: LedgerSite[];
  onChange: (part: Partial<Overlay>) => void;
}) {
  const { overlay } = props;
  const hubs = overlay.hubs ?? [];
  const mesh = overlay.shape === "full-mesh";
  const list = useRef<HTMLOListElement>(null);
  const move = (at: number, by: number) => {
    const next = [...hubs];
    const [hub] = next.splice(at, 1);
    next.splice(at + by, 0, hub as string);
    props.onChange({ hubs: next });
    requestAnimationFrame(() => list.current?.querySelector<HTMLElement>(`[data-hub="${hub}"]`)?.focus());
  };
  return (
    <section aria-label="Hubs">
      <h2 className="text-lg">Hubs, in order</h2>
      {hubs.length === 0 ? (
        <p className="text-secondary py-1">
          {mesh
            ? "None, and a mesh needs none. A hub would carry the traffic of pairs that cannot be joined."
            : "No hub yet. A hub needs a link that others can reach."}
        </p>
      ) : null}
      <ol ref={list}>
        {hubs.map((hub, at) => (
          <li key={hub} className="flex items-center gap-2 border-b border-base-300 py-1">
            <span className="w-5 text-right text-secondary">{at + 1}</span>
            <button
              type="button"
              data-hub={hub}
              className="grow text-left font-mono truncate"
              title="Alt+↑ and Alt+↓ move it"
              onKeyDown={(e) => {
                const by = { ArrowUp: -1, ArrowDown: 1 }[e.key];
                if (e.altKey && by && hubs[at + by]) {
                  e.preventDefault();
                  move(at, by);
                }
              }}
            >
              {hub}
            </button>
            <button
              type="button"
              className="btn btn-xs btn-square"
              aria-label={`Move ${hub} up`}
              disabled={at === 0}
              onClick={() => move(at, -1)}
            >
              <ArrowUp size={12} />
            </button>
            <button
              type="button"
              className="btn btn-xs btn-square"
              aria-label={`Move ${hub} down`}
              disabled={at === hubs.length - 1}
              onClick={() => move(at, 1)}
            >
              <ArrowDown size={12} />
            </button>
            <button
              type="button"
              className="btn btn-xs btn-square"
              aria-label={`${hub} is no hub`}
              onClick={() =>
                props.onChange({
                  hubs: hubs.filter((h) => h !== hub),
                  spokes: (overlay.spokes ?? []).map((s) => ({
                    ...s,
                    hubs: s.hubs?.filter((h) => h !== hub),
                  })),
                })
              }
            >
              <X size={12} />
            </button>
          </li>
        ))}
      </ol>
      <AddHub
        sites={props.sites.filter((s) => !hubs.includes(s.key))}
        onAdd={(key) =>
          props.onChange({
            hubs: [...hubs, key],
            spokes: (overlay.spokes ?? []).filter((s) => s.site !== key),
          })
        }
      />
      {mesh ? null : (
        <label className="flex gap-2 items-center mt-2 text-[13px]">
          <input
            type="checkbox"
            className="accent-primary"
            checked={overlay.hub_links !== false}
            onChange={(e) => props.onChange({ hub_links: e.target.checked ? undefined : false })}
          />
          hubs have tunnels to each other
        </label>
      )}
      {hubs.length < 2 ? null : (
        <>
          <label className="flex gap-2 items-center mt-2 text-[13px]">
            <input
              type="checkbox"
              className="accent-primary"
              aria-describedby="hubs-tell"
              checked={overlay.hubs_tell === true}
              onChange={(e) => props.onChange({ hubs_tell: e.target.checked || undefined })}
            />
            hubs tell which sites they reach
          </label>
          <p id="hubs-tell" className="pl-5 text-[13px] text-secondary">
            Traffic for a site that one hub has lost goes by another. Gateways need{" "}
            <code>wideknot gateway</code>; bundles tell nothing.
          </p>
        </>
      )}
    </section>
  );
}

/** AddHub offers the sites that can be a hub, and shows which cannot. */
function AddHub({ sites, onAdd }: { sites: LedgerSite[]; onAdd: (key: string) => void }) {
  return (
    <select
      className="cell mt-2"
      aria-label="Add a hub"
      value=""
      onChange={(e) => {
        if (e.target.value) {
          onAdd(e.target.value);
        }
      }}
    >
      <option value="">Add a hub …</option>
      <optgroup label="reachable">
        {sites.filter(callable).map((s) => (
          <option key={s.key} value={s.key}>
            {s.name}
          </option>
        ))}
      </optgroup>
      <optgroup label="outbound only">
        {sites
          .filter((s) => !callable(s))
          .map((s) => (
            <option key={s.key} value={s.key} disabled>
              {s.name}
            </option>
          ))}
      </optgroup>
    </select>
  );
}
