import { type InputHTMLAttributes, useState } from "react";

type Props = Omit<InputHTMLAttributes<HTMLInputElement>, "value" | "onChange"> & {
  value: string;
  onSettle: (value: string) => void;
};

/**
 * Settled is an input that hands its value on when it is left or Enter is
 * pressed; Escape takes back what was typed. A value that is refused stays as it
 * was typed until another one is taken.
 */
export function Settled({ value, onSettle, ...input }: Props) {
  const [typed, setTyped] = useState<string>();
  const [was, setWas] = useState(value);
  if (value !== was) {
    setWas(value);
    setTyped(undefined);
  }
  return (
    <input
      {...input}
      value={typed ?? value}
      onChange={(e) => setTyped(e.target.value)}
      onBlur={() => {
        if (typed !== undefined && typed.trim() !== value) {
          onSettle(typed.trim());
        }
      }}
      onKeyDown={(e) => {
        if (e.key === "Enter") {
          e.currentTarget.blur();
        } else if (e.key === "Escape") {
          setTyped(undefined);
        }
      }}
    />
  );
}
