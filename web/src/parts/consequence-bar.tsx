import { useEffect } from "react";
import { Link, useLocation } from "react-router";
import type { EstateHead, Tally } from "../api/client";
import { type Place, pageOf } from "../api/place";
import { useMayEdit, useStep } from "../api/queries";
import { Consequences } from "./consequences";
import { Mark } from "./mark";
import { usePress, within } from "./press";

/**
 * ConsequenceBar is the line at the bottom: what the edits so far would do, to
 * whom, and how to take the last one back.
 */
export function ConsequenceBar({ at, head, tally }: { at: Place; head?: EstateHead; tally?: Tally }) {
  const undo = useStep(at, "undo");
  const redo = useStep(at, "redo");
  const revision = head?.revision;
  const may = useMayEdit(at);
  usePress((e) => {
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !within(e) && may) {
      e.preventDefault();
      (e.shiftKey ? redo : undo).mutate(revision);
    }
  });
  const location = useLocation();
  // What an undo had to say belongs to the page on which it was said.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the place is the trigger
  useEffect(() => {
    undo.reset();
    redo.reset();
  }, [location.pathname]);
  const failed = undo.error ?? redo.error;
  return (
    <footer className="border-t border-base-300 bg-base-200 px-4 h-10 flex items-center gap-3 text-[13px]">
      {head?.fixed ? null : (
        <>
          <button
            type="button"
            className="btn btn-xs"
            disabled={!may || !head?.undo || undo.isPending}
            onClick={() => undo.mutate(revision)}
            title={head?.undo ? `Undo: ${head.undo} (Ctrl+Z)` : "Ctrl+Z"}
          >
            Undo
          </button>
          <button
            type="button"
            className="btn btn-xs"
            disabled={!may || !head?.redo || redo.isPending}
            onClick={() => redo.mutate(revision)}
            title={head?.redo ? `Repeat: ${head.redo} (Ctrl+Shift+Z)` : "Ctrl+Shift+Z"}
          >
            Redo
          </button>
          <span className="truncate min-w-0" aria-live="polite" data-testid="last-edit">
            {failed ? failed.message : head?.undo ? `Last edit: ${head.undo}` : "No edits yet"}
          </span>
        </>
      )}
      <span className="ml-auto flex gap-3 whitespace-nowrap">
        {!head?.fixed && tally && tally.parts > 0 ? (
          <Link to={`${pageOf(at)}/release`} className="link link-hover" data-testid="consequences">
            <Consequences tally={tally} />
          </Link>
        ) : null}
        <Link
          to={`${pageOf(at)}/findings`}
          className="link link-hover flex gap-3"
          title="Work through the findings"
        >
          {(["error", "warning"] as const).map((s) => (
            <Mark key={s} severity={s} count={head?.findings[s] ?? 0} />
          ))}
        </Link>
      </span>
    </footer>
  );
}
