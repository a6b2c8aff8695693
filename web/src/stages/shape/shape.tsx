import { useState } from "react";
import { useSearchParams } from "react-router";
import { Problem } from "../../api/client";
import { type Place, usePlace } from "../../api/place";
import { useEstate, useSites } from "../../api/queries";
import { useOverlays, useSaveOverlay } from "../../api/shape";
import { Editable } from "../../parts/editable";
import { Field } from "../../parts/field";
import { StageHead } from "../../parts/stage-head";
import { Tabs } from "../../parts/tabs";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { OverlayForm } from "./overlay-form";

/** Shape chooses for each overlay its hubs and their order, its pool, its members and what they share. */
export default function Shape() {
  const at = usePlace();
  const overlays = useOverlays(at);
  const sites = useSites(at);
  const head = useEstate(at);
  const [params, setParams] = useSearchParams();
  const [adding, setAdding] = useState(false);
  const list = overlays.data ?? [];
  const chosen = list.find((o) => o.key === params.get("overlay")) ?? list[0];
  const form =
    chosen && sites.data && head.data ? (
      <OverlayForm key={chosen.key} at={at} overlay={chosen} sites={sites.data} />
    ) : null;
  return (
    <div className="pb-10 h-full flex flex-col">
      <StageHead
        title="Shape"
        actions={
          <Editable>
            <button type="button" className="btn btn-sm" onClick={() => setAdding(!adding)}>
              New overlay
            </button>
          </Editable>
        }
      >
        Who is a hub, which hubs does each spoke use and in what order, and what takes part?
      </StageHead>
      <div className="px-6">
        <Trouble error={overlays.error ?? sites.error} />
        {overlays.isPending || sites.isPending ? <Waiting what="the overlays" /> : null}
        {adding || (overlays.data && list.length === 0) ? (
          <NewOverlay
            at={at}
            first={list.length === 0}
            onMade={(key) => {
              setAdding(false);
              setParams({ overlay: key });
            }}
          />
        ) : null}
      </div>
      {chosen && list.length > 1 ? (
        <Tabs
          label="Overlays"
          tabs={list.map((o) => o.key)}
          chosen={chosen.key}
          onChoose={(overlay) => setParams({ overlay })}
          words={(key) => <span className="font-mono">{key}</span>}
          className="mx-6 flex gap-6 border-b border-base-content mb-3"
          panel="grow min-h-0 flex flex-col"
        >
          {form}
        </Tabs>
      ) : (
        form
      )}
    </div>
  );
}

function NewOverlay({ at, first, onMade }: { at: Place; first: boolean; onMade: (key: string) => void }) {
  const [key, setKey] = useState(first ? "ops" : "");
  const [pool, setPool] = useState("100.96.0.0/16");
  const save = useSaveOverlay(at);
  const refused = save.error instanceof Problem ? save.error.fields : {};
  return (
    <form
      className="border-l-4 border-primary bg-base-200 px-4 py-3 mb-4 max-w-2xl"
      aria-label="New overlay"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(
          {
            overlay: {
              key: key.trim(),
              shape: "hub-and-spoke",
              transit: pool.split(/[\s,;]+/).filter(Boolean),
              pairing: "every",
            },
          },
          { onSuccess: () => onMade(key.trim()) },
        );
      }}
    >
      {first ? (
        <p className="mb-2">
          An overlay is a set of tunnels with one purpose. Give it a name and a transit pool, from which every
          tunnel gets its two addresses; then choose the hubs.
        </p>
      ) : null}
      <div className="flex gap-3 items-start">
        <div className="w-40">
          <Field label="Overlay key" error={refused.key}>
            {(aria) => (
              <input
                {...aria}
                className="cell font-mono"
                value={key}
                onChange={(e) => setKey(e.target.value)}
              />
            )}
          </Field>
        </div>
        <div className="w-64">
          <Field
            label="Transit pool"
            error={refused.transit ?? refused["transit[0]"] ?? refused["transit[1]"]}
          >
            {(aria) => (
              <input
                {...aria}
                className="cell font-mono"
                value={pool}
                onChange={(e) => setPool(e.target.value)}
              />
            )}
          </Field>
        </div>
        <button
          type="submit"
          className="btn btn-sm btn-primary mt-4"
          disabled={!key.trim() || save.isPending}
        >
          Make the overlay
        </button>
      </div>
      <Trouble error={save.error} />
    </form>
  );
}
