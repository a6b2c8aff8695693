import type { TunnelNow } from "../../api/client";

/** How long ago a handshake was. */
export function agoText(seconds: number): string {
  if (seconds === 0) {
    return "never";
  }
  return seconds < 120 ? `${seconds} s ago` : `${Math.round(seconds / 60)} min ago`;
}

/** Microseconds as milliseconds, where the tunnel is up and probed. */
export function msText(t: TunnelNow, us: number): string {
  return t.up && t.probed ? `${(us / 1000).toFixed(1)} ms` : "–";
}

/** Parts in a million as per cent, where the tunnel is up and probed. */
export function lossText(t: TunnelNow, ppm: number): string {
  return t.up && t.probed ? `${(ppm / 10_000).toFixed(1)} %` : "–";
}
