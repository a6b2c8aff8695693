import { Link } from "react-router";
import { useNewKeys } from "../../api/gateways";
import { type Place, pageOf } from "../../api/place";
import { many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";

/**
 * Keys lets a gateway, or all that are there, have a new key for its tunnels: it comes into the
 * draft, and is used once that is released and brought to the gateways.
 */
export function Keys({ at, site }: { at: Place; site: string }) {
  const make = useNewKeys(at);
  const failed = make.data?.keys.filter((k) => k.words) ?? [];
  const made = (make.data?.keys.length ?? 0) - failed.length;
  return (
    <section className="max-w-3xl border-t border-base-300 pt-3 mb-4" data-testid="keys">
      <h2 className="text-lg">New key</h2>
      <p className="text-secondary text-[13px] mb-2">
        The gateway makes another key and keeps it to itself; the public half comes into this draft. It is
        used once the draft is released and brought to the gateways: far ends take both keys until then, so
        that no pair is cut.
      </p>
      <div className="flex gap-2">
        <button
          type="button"
          className="btn btn-sm"
          disabled={make.isPending}
          onClick={() => make.mutate([site])}
        >
          Make a new key here
        </button>
        <button
          type="button"
          className="btn btn-sm"
          disabled={make.isPending}
          onClick={() => make.mutate([])}
        >
          For all gateways that are there
        </button>
        {make.isPending ? <span className="loading loading-dots loading-sm" /> : null}
      </div>
      <Trouble error={make.error} />
      {make.data ? (
        <p className="mt-2" role="status">
          {made > 0 ? (
            <>
              ✓ {many(made, "new key is", "new keys are")} in this draft.{" "}
              <Link className="link link-primary" to={`${pageOf(at)}/release`}>
                Release it
              </Link>
            </>
          ) : null}
          {failed.map((k) => (
            <span key={k.site} className="block text-error">
              ■ <span className="font-mono">{k.site}</span> {k.words}
            </span>
          ))}
        </p>
      ) : null}
    </section>
  );
}
