import type { WhyAnswer } from "../../api/client";

/** How a packet and its answer fare, in a sentence. */
export const verdicts: Record<WhyAnswer["verdict"], string> = {
  arrives: "✓ It arrives, and the answer comes back, as the design says.",
  standby: "▲ It arrives, but not by the first choice.",
  poor: "▲ It arrives, but not all of it.",
  fails: "■ It does not arrive.",
  refused: "■ The design does not let it through.",
  unseen: "○ By the design it arrives. Not all of the path is seen.",
};
