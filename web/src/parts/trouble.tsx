import { Problem } from "../api/client";

/**
 * Trouble says what went wrong; what was entered stays where it is. Of an edit
 * that others were faster with it says what they did, and offers to save over
 * it.
 */
export function Trouble({ error, onOver }: { error: unknown; onOver?: (now: number) => void }) {
  if (!error) {
    return null;
  }
  const more = error instanceof Problem ? error.more : {};
  return (
    <div role="alert" className="border-l-4 border-error bg-error/10 px-3 py-2 my-2">
      <p>
        <strong className="text-error">■ Not done.</strong>{" "}
        {error instanceof Error ? error.message : "Something unexpected happened."}
      </p>
      {more.changes && more.changes.length > 0 ? (
        <ul className="mt-1 pl-5 list-disc font-mono text-[13px]">
          {more.changes.map((c) => (
            <li key={c}>{c}</li>
          ))}
        </ul>
      ) : null}
      {more.now !== undefined && onOver ? (
        <button type="button" className="btn btn-xs mt-2" onClick={() => onOver(more.now ?? 0)}>
          Save mine over it
        </button>
      ) : null}
    </div>
  );
}
