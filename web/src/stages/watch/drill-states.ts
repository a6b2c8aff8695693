import type { Drill } from "../../api/client";

/** What the states of a drill are called. */
export const states: Record<Drill["state"], string> = {
  waiting: "○ waits for its time",
  beginning: "◐ begins",
  running: "◐ held",
  returning: "◐ let go, coming back",
  proven: "✓ as predicted",
  differs: "■ not as predicted",
  failed: "■ could not be done",
  stopped: "○ stopped",
};
