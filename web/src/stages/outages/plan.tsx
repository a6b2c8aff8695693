import { useShed, useStanding } from "../../api/outages";
import type { Place } from "../../api/place";
import { useMayEdit } from "../../api/queries";
import { Idle } from "../../parts/idle";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { Order } from "./link-order";
import { Probes } from "./probes";
import { moved, Step } from "./step";

/** Plan is what decides in an outage: the order of links, zones, probes. */
export function Plan({ at }: { at: Place }) {
  const standing = useStanding(at);
  return (
    <div className="grid grid-cols-2 gap-10 pb-10">
      <Trouble error={standing.error} />
      {standing.isPending ? <Waiting what="the plan" /> : null}
      {standing.data ? (
        <>
          {standing.data.idle.length > 0 ? (
            <div className="col-span-2 -mb-8">
              <Idle sites={standing.data.idle} />
            </div>
          ) : null}
          <Order at={at} patterns={standing.data.patterns} zones={standing.data.zones} />
          <div>
            <Shed at={at} shed={standing.data.shed} zones={standing.data.zones} />
            <h2 className="text-lg mt-6">Probes</h2>
            <p className="text-xs text-secondary">
              Every tunnel is probed from both ends. Detection = interval × misses + timeout; return =
              interval × successes, so that a flapping link stays out. A tunnel beyond its limits steps behind
              others to the same site, for the zones held to them; only gateways that run wideknot gateway do
              that.
            </p>
            {standing.data.timings.map((t) => (
              <Probes
                key={`${t.overlay} ${JSON.stringify(t.probe)}`}
                at={at}
                timing={t}
                zones={standing.data.zones}
              />
            ))}
          </div>
        </>
      ) : null}
    </div>
  );
}

function Shed({ at, shed, zones }: { at: Place; shed: string[]; zones: string[] }) {
  const mayEdit = useMayEdit(at);
  const save = useShed(at);
  const rest = zones.filter((z) => !shed.includes(z));
  return (
    <section aria-label="Shedding order">
      <h2 className="text-lg">Zones shed first</h2>
      <p className="text-xs text-secondary">
        Where what is left is too narrow. Zones not listed are shed last, together.
      </p>
      <Trouble error={save.error} />
      <ol>
        {shed.map((z, i) => (
          <li key={z} className="flex gap-2 items-center text-[13px] py-0.5">
            <span className="num w-5 text-right text-secondary">{i + 1}</span>
            <span className="font-mono w-28">{z}</span>
            <Step
              label={`${z} earlier`}
              up
              disabled={!mayEdit || i === 0}
              onClick={() => save.mutate(moved(shed, i, -1))}
            />
            <Step
              label={`${z} later`}
              disabled={!mayEdit || i === shed.length - 1}
              onClick={() => save.mutate(moved(shed, i, 1))}
            />
            <button
              type="button"
              className="btn btn-xs"
              disabled={!mayEdit}
              onClick={() => save.mutate(shed.filter((s) => s !== z))}
            >
              Take out
            </button>
          </li>
        ))}
      </ol>
      {mayEdit && rest.length > 0 ? (
        <select
          className="cell w-48 mt-1"
          aria-label="Add a zone to be shed"
          value=""
          onChange={(e) => save.mutate([...shed, e.target.value])}
        >
          <option value="">Add a zone …</option>
          {rest.map((z) => (
            <option key={z}>{z}</option>
          ))}
        </select>
      ) : null}
    </section>
  );
}
