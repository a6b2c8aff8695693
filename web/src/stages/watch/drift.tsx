import { Link } from "react-router";
import type { GatewayNow } from "../../api/client";
import { usePutBack, useTakeDrift } from "../../api/gateways";
import { type Place, pageOf } from "../../api/place";
import { Trouble } from "../../parts/trouble";

/**
 * Drift says what can be done about a gateway that runs something else than was confirmed: put
 * back what was, or take what was set by hand into the draft.
 */
export function Drift({ at, g, fixed }: { at: Place; g: GatewayNow; fixed: boolean }) {
  const putBack = usePutBack(at.estate, g.site);
  const take = useTakeDrift(at, g.site);
  return (
    <section className="border-l-4 border-warning bg-base-200 px-3 py-2 mb-4 max-w-3xl" data-testid="drift">
      <h2 className="text-lg">Set by hand</h2>
      <p className="break-words">{g.words}</p>
      <div className="flex flex-wrap gap-x-8 gap-y-2 mt-2">
        <span className="max-w-xs">
          <button
            type="button"
            className="btn btn-sm"
            disabled={putBack.isPending}
            onClick={() => putBack.mutate(g.digest ?? "")}
          >
            Put back what was confirmed
          </button>
          <span className="block text-xs text-secondary mt-0.5">what was set there is overwritten</span>
        </span>
        {fixed ? null : (
          <span className="max-w-xs">
            <button
              type="button"
              className="btn btn-sm"
              disabled={take.isPending}
              onClick={() => take.mutate(undefined)}
            >
              Take it into this draft
            </button>
            <span className="block text-xs text-secondary mt-0.5">
              what differs from what was confirmed, as far as a design has words for it
            </span>
          </span>
        )}
      </div>
      <Trouble error={putBack.error ?? take.error} />
      {take.data ? (
        <div className="mt-2" role="status">
          {take.data.taken.map((words) => (
            <p key={words}>✓ {words}</p>
          ))}
          {take.data.left.map((words) => (
            <p key={words} className="text-warning">
              ▲ not in the draft: {words}
            </p>
          ))}
          <Link className="link link-primary" to={`${pageOf(at)}/release`}>
            Release it
          </Link>
        </div>
      ) : null}
    </section>
  );
}
