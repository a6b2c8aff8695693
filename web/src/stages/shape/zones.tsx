import type { ShapedOverlay } from "../../api/client";
import type { Place } from "../../api/place";
import { useShare } from "../../api/shape";
import { many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";

/** Zones chooses which subnets of the members take part, a zone at a time. */
export function Zones({ at, overlay }: { at: Place; overlay: ShapedOverlay }) {
  const share = useShare(at, overlay.key);
  return (
    <section aria-label="Zones" className="mt-6">
      <h2 className="text-lg">Zones shared</h2>
      {overlay.zones.length === 0 ? <p className="text-secondary">The members have no subnets yet.</p> : null}
      <table className="ruled">
        <tbody>
          {overlay.zones.map((z) => {
            const all = z.shared === z.subnets;
            return (
              <tr key={z.zone}>
                <td>
                  <label className="flex gap-2 items-center">
                    <input
                      type="checkbox"
                      className="accent-primary"
                      checked={all}
                      ref={(box) => {
                        if (box) {
                          box.indeterminate = z.shared > 0 && !all;
                        }
                      }}
                      disabled={share.isPending}
                      onChange={() => share.mutate({ zone: z.zone, share: !all })}
                    />
                    {z.zone || "without a zone"}
                  </label>
                </td>
                <td className="num text-secondary">
                  {z.shared} of {many(z.subnets, "subnet")}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <p className="text-xs text-secondary mt-1">
        A single subnet is shared, or kept out, at its site in Survey.
      </p>
      <Trouble error={share.error} />
    </section>
  );
}
