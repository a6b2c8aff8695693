import { ArrowDown, ArrowUp } from "lucide-react";

export function moved<T>(list: T[], at: number, by: number): T[] {
  const out = [...list];
  const [one] = out.splice(at, 1);
  out.splice(at + by, 0, one as T);
  return out;
}

export function Step(props: { label: string; up?: boolean; disabled: boolean; onClick: () => void }) {
  return (
    <button
      type="button"
      className="btn btn-xs btn-square"
      aria-label={props.label}
      disabled={props.disabled}
      onClick={props.onClick}
    >
      {props.up ? <ArrowUp size={12} /> : <ArrowDown size={12} />}
    </button>
  );
}
