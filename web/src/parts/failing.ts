/** What can fail, by the words that stand for it in addresses and on screens. */
export const kinds = {
  gateway: "gateway",
  link: "link",
  fate: "shared fate",
  provider: "provider",
  underlay: "underlay",
  region: "region",
} as const;

/** How badly something fails, by the word before its kind. */
export const degrees = { dead: "dead", slow: "slow", lossy: "lossy" } as const;

/** Splits KIND:NAME, or DEGREE:KIND:NAME where it is not dead; the degree is part of the kind. */
export function partOf(text: string): { kind: string; name: string; degree: keyof typeof degrees } {
  const [first = "", ...rest] = text.split(":");
  if (first === "slow" || first === "lossy") {
    const { kind, name } = partOf(rest.join(":"));
    return { kind: `${first} ${kind}`, name, degree: first };
  }
  return { kind: kinds[first as keyof typeof kinds] ?? first, name: rest.join(":"), degree: "dead" };
}

export const partText = (text: string) => {
  const { kind, name } = partOf(text);
  return `${kind} ${name}`;
};

/** What happens, in words: "link a/fibre fails and provider Lumenway is slow". */
export const failing = (parts: string[]) =>
  parts
    .map((p) => {
      const { kind, name, degree } = partOf(p);
      return degree === "dead"
        ? `${kind} ${name} fails`
        : `${kind.slice(degree.length + 1)} ${name} is ${degree}`;
    })
    .join(" and ");
