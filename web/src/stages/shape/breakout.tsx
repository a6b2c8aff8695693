import { X } from "lucide-react";
import type { LedgerSite, Overlay, ShapedOverlay } from "../../api/client";

/** Breakout says which sites send their internet traffic through which hubs. */
export function Breakout(props: {
  overlay: ShapedOverlay;
  sites: LedgerSite[];
  onChange: (part: Partial<Overlay>) => void;
}) {
  const { overlay, onChange } = props;
  const hubs = overlay.hubs ?? [];
  const now = overlay.breakout;
  const set = (part: { hubs?: string[]; sites?: string[] }) => {
    const next = { hubs: now?.hubs ?? [], sites: now?.sites ?? [], except: now?.except, ...part };
    onChange({ breakout: next.hubs.length === 0 && next.sites.length === 0 ? undefined : next });
  };
  const inside = now?.sites ?? [];
  const others = (overlay.spokes ?? []).map((s) => s.site).filter((s) => !inside.includes(s));
  if (hubs.length === 0) {
    return null;
  }
  return (
    <section aria-label="Internet" className="mt-4">
      <h2 className="text-lg">Internet through a hub</h2>
      <p className="text-[13px] text-secondary">
        {inside.length === 0
          ? "Every site uses its own internet links. Choose sites that go through a hub instead."
          : "These sites send everything else through the hub; the others use their own links."}
      </p>
      <select
        className="cell mt-1"
        aria-label="Hub for internet traffic"
        value={now?.hubs?.[0] ?? ""}
        onChange={(e) => set({ hubs: e.target.value ? [e.target.value] : [] })}
      >
        <option value="">no hub</option>
        {hubs.map((h) => (
          <option key={h}>{h}</option>
        ))}
      </select>
      <ul>
        {inside.map((s) => (
          <li
            key={s}
            className="flex items-center gap-2 border-b border-base-300 py-0.5 font-mono text-[13px]"
          >
            <span className="grow">{s}</span>
            <button
              type="button"
              className="btn btn-xs btn-square"
              aria-label={`${s} uses its own internet links`}
              onClick={() => set({ sites: inside.filter((x) => x !== s) })}
            >
              <X size={12} />
            </button>
          </li>
        ))}
      </ul>
      <select
        className="cell mt-1"
        aria-label="Add a site to go through the hub"
        value=""
        onChange={(e) => {
          if (e.target.value) {
            set({
              sites: [...inside, e.target.value],
              hubs: now?.hubs?.length ? now.hubs : hubs.slice(0, 1),
            });
          }
        }}
      >
        <option value="">Add a site …</option>
        {others.map((s) => (
          <option key={s} value={s}>
            {props.sites.find((x) => x.key === s)?.name ?? s}
          </option>
        ))}
      </select>
    </section>
  );
}
