import { useRef } from "react";
import { useNavigate } from "react-router";
import { pageOf, usePlace } from "../api/place";
import { usePress, within } from "./press";

const keys: [string, string][] = [
  ["1 2 3 4 5 6 7", "Survey, Addresses, Shape, Paths, Outages, Release, Watch"],
  ["Ctrl+K or /", "Jump to anything; type an address, or two"],
  ["i", "Look at the site, tunnel, subnet or finding that has the focus, beside the stage"],
  ["Ctrl+Z", "Undo the last edit"],
  ["Ctrl+Shift+Z", "Redo"],
  ["↑ ↓", "Move in the ledger"],
  ["Enter", "Open the site of the row"],
  ["Ctrl+Enter", "Save the site that is open"],
  ["Esc", "Close without saving"],
  ["?", "This list"],
];

/** Keys listens for the stage keys and shows the list of all keys. */
export function Keys() {
  const dialog = useRef<HTMLDialogElement>(null);
  const navigate = useNavigate();
  const { estate, draft } = usePlace();
  usePress((e) => {
    if (within(e, ", dialog") || e.ctrlKey || e.metaKey || e.altKey) {
      return;
    }
    const stage = {
      1: "survey",
      2: "addresses",
      3: "shape",
      4: "paths",
      5: "outages",
      6: "release",
      7: "watch",
    }[e.key];
    if (e.key === "?") {
      dialog.current?.showModal();
    } else if (stage) {
      navigate(`${pageOf({ estate, draft })}/${stage}`);
    }
  });
  return (
    <dialog
      ref={dialog}
      className="m-auto bg-base-100 text-base-content border border-base-content p-6 min-w-96"
      aria-label="Keys"
    >
      <h2 className="text-lg mb-3">Keys</h2>
      <dl className="grid grid-cols-[auto_1fr] gap-x-6 gap-y-1">
        {keys.map(([key, what]) => (
          <div key={key} className="contents">
            <dt className="font-mono">{key}</dt>
            <dd>{what}</dd>
          </div>
        ))}
      </dl>
      <form method="dialog" className="mt-4 text-right">
        <button type="submit" className="btn btn-sm">
          Close
        </button>
      </form>
    </dialog>
  );
}
