import { useState } from "react";

/** Copy puts a text on the clipboard and says so. */
export function Copy({ text, label = "Copy" }: { text: string; label?: string }) {
  const [done, setDone] = useState<"" | "Copied" | "Cannot copy here">("");
  return (
    <button
      type="button"
      className="btn btn-xs"
      onClick={async () => {
        try {
          await navigator.clipboard.writeText(text);
          setDone("Copied");
        } catch {
          setDone("Cannot copy here");
        }
        setTimeout(() => setDone(""), 1500);
      }}
    >
      <span aria-live="polite">{done || label}</span>
    </button>
  );
}
