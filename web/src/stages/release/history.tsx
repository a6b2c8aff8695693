import type { Rollout } from "../../api/client";
import { useReleases } from "../../api/queries";
import { When } from "../../parts/when";

const ends: Record<Rollout["state"], string> = {
  running: "goes on",
  waiting: "waits",
  stopped: "■ stopped",
  back: "is being taken back",
  done: "✓ done",
  undone: "↩ taken back",
  left: "→ another one took its place",
};

/** History lists the releases of the estate, each with the rollouts that brought it to gateways. */
export function History({
  estate,
  rollouts,
  chosen,
  onChoose,
}: {
  estate: string;
  rollouts: Rollout[];
  chosen: number;
  onChoose: (number: number) => void;
}) {
  const releases = useReleases(estate).data ?? [];
  return (
    <section className="max-w-5xl mt-6" data-testid="history">
      <h2 className="text-lg">Releases and rollouts</h2>
      <ul>
        {releases.slice(0, 30).map((r) => (
          <li
            key={r.number}
            className="grid grid-cols-[90px_minmax(0,1.5fr)_minmax(0,2fr)] gap-x-4 py-1 border-b border-base-300"
          >
            <span>Release {r.number}</span>
            <span className="min-w-0">
              <span className="break-words">{r.message}</span>
              <span className="block text-xs text-secondary">
                {r.author}, <When at={r.at} />
              </span>
            </span>
            <ul>
              {rollouts
                .filter((o) => o.release === r.number)
                .map((o) => (
                  <li key={o.number}>
                    <button
                      type="button"
                      className={`link ${o.number === chosen ? "font-semibold" : "link-hover"}`}
                      onClick={() => onChoose(o.number)}
                    >
                      rollout {o.number}
                    </button>{" "}
                    {ends[o.state]}, <When at={o.ended_at ?? o.made_at} />, by {o.author}
                  </li>
                ))}
            </ul>
          </li>
        ))}
      </ul>
    </section>
  );
}
