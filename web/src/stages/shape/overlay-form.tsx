import { type LedgerSite, type Overlay, Problem, type ShapedOverlay } from "../../api/client";
import type { Place } from "../../api/place";
import { useDeleteOverlay, useSaveOverlay } from "../../api/shape";
import { useAddress } from "../../parts/address";
import { Choice } from "../../parts/choice";
import { Editable } from "../../parts/editable";
import { Field } from "../../parts/field";
import { count } from "../../parts/number";
import { Settled } from "../../parts/settled";
import { Tabs } from "../../parts/tabs";
import { Trouble } from "../../parts/trouble";
import { Breakout } from "./breakout";
import { HubOrder } from "./hub-order";
import { Loom } from "./loom";
import { Members } from "./members";
import { Pair } from "./pair";
import { PairChooser } from "./pair-chooser";
import { PolicyAndPins } from "./policy";
import { Settings } from "./settings";
import { Zones } from "./zones";

/** The overlay as the document has it, without what the plan adds. */
function bare(o: ShapedOverlay): Overlay {
  const { revision: _r, tunnels: _t, zones: _z, members: _m, ...rest } = o;
  return rest;
}

const shapes = {
  "hub-and-spoke": "hubs and spokes",
  custom: "hubs, spokes and direct pairs",
  "full-mesh": "every pair of members",
};
const pairings = {
  every: "every pair of links",
  matched: "each link with the best far link",
  "top-n": "the first few pairs",
};

const tabs = {
  loom: "Pairs",
  members: "Members",
  policy: "Policy and pins",
  settings: "Costs and tunnels",
};

/** OverlayForm edits one overlay. Each change is an edit of its own and can be undone. */
export function OverlayForm({
  at,
  overlay,
  sites,
}: {
  at: Place;
  overlay: ShapedOverlay;
  sites: LedgerSite[];
}) {
  const save = useSaveOverlay(at);
  const remove = useDeleteOverlay(at);
  const refused = save.error instanceof Problem ? save.error.fields : {};
  const change = (part: Partial<Overlay>) =>
    save.mutate({ overlay: { ...bare(overlay), ...part }, revision: overlay.revision });
  const [params, set] = useAddress();
  const open = { a: params.get("a") ?? "", b: params.get("b") ?? "" };
  const view = (Object.keys(tabs) as (keyof typeof tabs)[]).find((v) => v === params.get("view")) ?? "loom";
  const show = (a: string, b: string) => set({ a, b });
  return (
    <div className="px-6 grow min-h-0 flex flex-col">
      <Editable>
        <div className="flex flex-wrap gap-x-4 gap-y-2 items-start mb-2">
          <ShapeFields overlay={overlay} refused={refused} onChange={change} />
          <p className="pt-5">
            <strong>{count(overlay.tunnels)}</strong> tunnels among <strong>{overlay.members.length}</strong>{" "}
            sites
            {save.isPending ? (
              <span className="loading loading-dots loading-xs ml-2" role="status" aria-label="Saving" />
            ) : null}
          </p>
          <button
            type="button"
            className="btn btn-xs ml-auto mt-5"
            disabled={remove.isPending}
            onClick={() => remove.mutate(overlay.key)}
          >
            Delete the overlay
          </button>
        </div>
      </Editable>
      <Trouble error={save.error ?? remove.error} />
      <div className="grid grid-cols-[minmax(320px,1fr)_minmax(0,1.7fr)] gap-6 grow min-h-0">
        <div className="overflow-auto">
          <PairChooser sites={sites} members={overlay.members.map((m) => m.site)} open={open} onOpen={show} />
          {open.a && open.b ? (
            <div className="mb-4">
              <Pair at={at} overlay={overlay} a={open.a} b={open.b} onClose={() => show("", "")} />
            </div>
          ) : null}
          <Editable>
            <HubOrder overlay={overlay} sites={sites} onChange={change} />
            <Zones at={at} overlay={overlay} />
            <Breakout overlay={overlay} sites={sites} onChange={change} />
          </Editable>
        </div>
        <div className="min-h-0 flex flex-col">
          <Tabs
            label="Views of the overlay"
            tabs={Object.keys(tabs) as (keyof typeof tabs)[]}
            chosen={view}
            onChoose={(v) => set({ view: v === "loom" ? "" : v })}
            words={(v) => tabs[v]}
            className="flex gap-4 text-[13px] mb-1"
            tab="border-b-2"
            panel="grow min-h-0"
          >
            {view === "settings" ? (
              <Editable>
                <Settings overlay={overlay} refused={refused} onChange={change} />
              </Editable>
            ) : view === "policy" ? (
              <Editable>
                <PolicyAndPins overlay={overlay} sites={sites} onChange={change} />
              </Editable>
            ) : view === "members" || overlay.members.length <= (overlay.hubs ?? []).length ? (
              <Members overlay={overlay} sites={sites} onChange={change} />
            ) : (
              <Loom
                at={at}
                overlay={overlay.key}
                open={open}
                onOpen={show}
                onLook={(look) => set({ look })}
              />
            )}
          </Tabs>
        </div>
      </div>
    </div>
  );
}

/** ShapeFields are what decides between which links there are tunnels, and from where they are numbered. */
function ShapeFields(props: {
  overlay: ShapedOverlay;
  refused: Record<string, string>;
  onChange: (part: Partial<Overlay>) => void;
}) {
  const { overlay, refused, onChange: change } = props;
  const refusedPool = Object.entries(refused).find(([path]) => path.startsWith("transit"))?.[1];
  return (
    <>
      <div className="w-56">
        <Choice
          label="Shape"
          error={refused.shape}
          value={overlay.shape}
          of={shapes}
          onChoose={(shape) => change({ shape, direct: shape === "custom" ? overlay.direct : undefined })}
        />
      </div>
      <div className="w-44">
        <Choice
          label="Tunnels between two sites"
          error={refused.pairing}
          value={overlay.pairing || "every"}
          of={pairings}
          onChoose={(pairing) =>
            change({
              pairing,
              pairing_limit: pairing === "top-n" ? (overlay.pairing_limit ?? 2) : undefined,
            })
          }
        />
      </div>
      {overlay.pairing === "top-n" ? (
        <div className="w-20">
          <Field label="How many" error={refused.pairing_limit}>
            {(aria) => (
              <Settled
                {...aria}
                className="cell"
                value={String(overlay.pairing_limit ?? "")}
                onSettle={(text) => change({ pairing_limit: Number(text) })}
              />
            )}
          </Field>
        </div>
      ) : null}
      <div className="w-36">
        <Field label="Transit pools" error={refusedPool}>
          {(aria) => (
            <Settled
              {...aria}
              className="cell font-mono"
              placeholder="100.96.0.0/16"
              value={(overlay.transit ?? []).join(" ")}
              onSettle={(text) => change({ transit: text.split(/[\s,;]+/).filter(Boolean) })}
            />
          )}
        </Field>
      </div>
      {overlay.transport === "ipsec" ? null : (
        <label
          className="pt-5 flex gap-1.5 items-center"
          title="A secret for each tunnel that both ends know, besides their key pairs"
        >
          <input
            type="checkbox"
            checked={overlay.preshared_keys ?? false}
            onChange={(e) => change({ preshared_keys: e.target.checked || undefined })}
          />
          Pre-shared keys
        </label>
      )}
    </>
  );
}
