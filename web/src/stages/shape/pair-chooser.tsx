import type { LedgerSite } from "../../api/client";

/** PairChooser opens the pair of any two members, joined or not. */
export function PairChooser(props: {
  sites: LedgerSite[];
  members: string[];
  open: { a: string; b: string };
  onOpen: (a: string, b: string) => void;
}) {
  const { open } = props;
  const choice = (label: string, value: string, other: string, set: (v: string) => void) => (
    <select className="cell" aria-label={label} value={value} onChange={(e) => set(e.target.value)}>
      <option value="">{label} …</option>
      {props.sites
        .filter((s) => props.members.includes(s.key) && s.key !== other)
        .map((s) => (
          <option key={s.key} value={s.key}>
            {s.name}
          </option>
        ))}
    </select>
  );
  if (props.members.length < 2) {
    return null;
  }
  return (
    <div className="flex gap-2 mb-2 items-center">
      {choice("One site of a pair", open.a, open.b, (a) => props.onOpen(a, open.b))}
      {choice("The other", open.b, open.a, (b) => props.onOpen(open.a, b))}
    </div>
  );
}
