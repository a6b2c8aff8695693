import { useEffect } from "react";
import { Link, useLocation } from "react-router";
import type { EstateHead, Tally } from "../api/client";
import { type Place, pageOf } from "../api/place";
import { useStep } from "../api/queries";
import { Mark } from "./mark";

/**
 * ConsequenceBar is the line at the bottom: what the edits so far would do, to
 * whom, and how to take the last one back.
 */
export function ConsequenceBar({ at, head, tally }: { at: Place; head?: EstateHead; tally?: Tally }) {
  const undo = useStep(at, "undo");
  const redo = useStep(at, "redo");
  const revision = head?.revision;
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && e.target.closest("input, textarea, select");
      if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== "z" || typing) {
        return;
      }
      e.preventDefault();
      (e.shiftKey ? redo : undo).mutate(revision);
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, [undo.mutate, redo.mutate, undo, redo, revision]);
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
            disabled={!head?.undo || undo.isPending}
            onClick={() => undo.mutate(revision)}
            title={head?.undo ? `Take back: ${head.undo} (Ctrl+Z)` : "Ctrl+Z"}
          >
            Undo
          </button>
          <button
            type="button"
            className="btn btn-xs"
            disabled={!head?.redo || redo.isPending}
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
        {(["error", "warning"] as const).map((s) => (
          <Mark key={s} severity={s} count={head?.findings[s] ?? 0} />
        ))}
      </span>
    </footer>
  );
}

function Consequences({ tally: t }: { tally: Tally }) {
  const findings = (list: Record<string, number>) => Object.values(list).reduce((a, b) => a + b, 0);
  const fresh = findings(t.findings_new);
  const gone = findings(t.findings_gone);
  const parts = [
    t.tunnels_added || t.tunnels_removed ? `+${t.tunnels_added} −${t.tunnels_removed} tunnels` : "",
    t.tunnels_changed
      ? `${t.tunnels_changed} ${t.tunnels_changed === 1 ? "tunnel changes" : "tunnels change"}`
      : "",
    t.routes_moved
      ? `${t.routes_moved} ${t.routes_moved === 1 ? "route moves" : "routes move"} at ${t.moved_at} ${t.moved_at === 1 ? "site" : "sites"}`
      : "no route moves",
    fresh ? `${fresh} new ${fresh === 1 ? "finding" : "findings"}` : "",
    gone ? `${gone} gone` : "",
  ].filter(Boolean);
  return (
    <>
      {parts.join(" · ")} ·{" "}
      {t.cut_pairs === 0 ? (
        <span>nobody cut off</span>
      ) : (
        <strong className="text-error">
          ■ {t.cut_pairs} {t.cut_pairs === 1 ? "pair" : "pairs"} cut
          {t.cut_off_count > 0
            ? `, ${t.cut_off.slice(0, 2).join(", ")}${t.cut_off_count > 2 ? ` and ${t.cut_off_count - 2} more` : ""} cut off`
            : ""}
        </strong>
      )}
    </>
  );
}
