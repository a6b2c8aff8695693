import type { GatewayRow } from "../../api/client";
import { standOf } from "../../api/gateways";

const shapes = { error: "■", warning: "▲", note: "○", "": "✓" } as const;
const tones = { error: "text-error", warning: "text-warning", note: "text-secondary", "": "" } as const;

/** Stands says how a gateway is, by shape, word and colour. */
export function Stands({ g }: { g: GatewayRow }) {
  const s = standOf(g);
  return (
    <span className={tones[s.mark]}>
      <span aria-hidden="true">{shapes[s.mark]}</span> {s.words}
    </span>
  );
}
