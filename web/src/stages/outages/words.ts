/** What the letters of the grid and the words of verdicts stand for. */
export const verdicts = {
  "-": { word: "untouched", mark: "", style: "" },
  m: { word: "moved", mark: "↷", style: "text-primary" },
  s: { word: "squeezed", mark: "≈", style: "text-warning bg-warning/15 font-semibold" },
  c: { word: "cut", mark: "✕", style: "text-base-100 bg-error font-semibold" },
} as const;

export type Letter = keyof typeof verdicts;

export const letterOf = (verdict: string): Letter =>
  (Object.keys(verdicts) as Letter[]).find((l) => verdicts[l].word === verdict) ?? "-";

/** Writes a rate or a time with as many places as mean something. */
export const short = (n: number) => (n >= 100 ? n.toFixed(0) : n >= 10 ? n.toFixed(1) : n.toFixed(2));
