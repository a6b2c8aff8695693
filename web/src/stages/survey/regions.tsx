import { useState } from "react";
import { Link } from "react-router";
import { type EstateHead, Problem } from "../../api/client";
import { type Place, usePlace } from "../../api/place";
import { useEstate, useSaveAbout } from "../../api/queries";
import { Editable } from "../../parts/editable";
import { Field } from "../../parts/field";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** Regions edits the estate's name, its regions and their address blocks. */
export default function Regions() {
  const at = usePlace();
  const head = useEstate(at);
  return (
    <div>
      <StageHead
        title="Regions"
        actions={
          <Link className="btn btn-sm" to="..">
            Back to the ledger
          </Link>
        }
      >
        From which address blocks does each region take its new subnets?
      </StageHead>
      {head.data ? <Editor head={head.data} at={at} /> : <Waiting what="regions" />}
    </div>
  );
}

function Editor({ head, at }: { head: EstateHead; at: Place }) {
  const [name, setName] = useState(head.name);
  const [rows, setRows] = useState(
    head.regions.map((r) => ({ key: r.key, blocks: (r.blocks ?? []).join(" ") })),
  );
  const [revision, setRevision] = useState(head.about_revision);
  const save = useSaveAbout(at);
  const refused = save.error instanceof Problem ? save.error.fields : {};
  const problem = (path: string) => refused[path] ?? refused[`estate.${path}`];
  return (
    <form
      className="px-6 pb-8 max-w-3xl"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(
          {
            about: {
              name,
              regions: rows.map((r) => ({ key: r.key, blocks: r.blocks.split(/[\s,;]+/).filter(Boolean) })),
            },
            revision,
          },
          { onSuccess: (saved) => setRevision(saved.about_revision) },
        );
      }}
    >
      <Editable>
        <div className="w-80 mb-4">
          <Field label="Name of the estate" error={problem("name")}>
            {(aria) => (
              <input {...aria} className="cell" value={name} onChange={(e) => setName(e.target.value)} />
            )}
          </Field>
        </div>
        {rows.map((row, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other identity while their key is being typed
          <div key={i} className="flex gap-3 items-end py-1.5 border-b border-base-300">
            <div className="w-40">
              <Field label="Region key" error={problem(`regions[${i}].key`)}>
                {(aria) => (
                  <input
                    {...aria}
                    className="cell font-mono"
                    value={row.key}
                    onChange={(e) =>
                      setRows(rows.map((r, j) => (i === j ? { ...r, key: e.target.value } : r)))
                    }
                  />
                )}
              </Field>
            </div>
            <div className="grow">
              <Field
                label="Address blocks"
                error={Object.entries(refused).find(([path]) => path.includes(`regions[${i}].blocks`))?.[1]}
              >
                {(aria) => (
                  <input
                    {...aria}
                    className="cell font-mono"
                    placeholder="10.16.0.0/14 fd3a:91c2:7::/48"
                    value={row.blocks}
                    onChange={(e) =>
                      setRows(rows.map((r, j) => (i === j ? { ...r, blocks: e.target.value } : r)))
                    }
                  />
                )}
              </Field>
            </div>
            <button
              type="button"
              className="btn btn-xs"
              onClick={() => setRows(rows.filter((_, j) => j !== i))}
            >
              Remove
            </button>
          </div>
        ))}
        <button
          type="button"
          className="btn btn-xs mt-2"
          onClick={() => setRows([...rows, { key: "", blocks: "" }])}
        >
          Add a region
        </button>
        <Trouble error={save.error} />
        <p className="mt-4">
          <button type="submit" className="btn btn-sm btn-primary" disabled={save.isPending}>
            Save
          </button>
        </p>
      </Editable>
    </form>
  );
}
