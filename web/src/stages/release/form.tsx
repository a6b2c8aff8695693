import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answered, client, type EstateHead, Problem, type Tally } from "../../api/client";
import type { Place } from "../../api/place";
import { Field } from "../../parts/field";
import { Mark } from "../../parts/mark";
import { Trouble } from "../../parts/trouble";

/** ReleaseForm puts the draft, as the page shows it, in force. */
export function ReleaseForm({ at, head, tally }: { at: Place; head: EstateHead; tally: Tally }) {
  const [message, setMessage] = useState("");
  const [reason, setReason] = useState("");
  const [request] = useState(() => crypto.randomUUID());
  const queries = useQueryClient();
  const release = useMutation({
    mutationFn: () =>
      answered(
        client.POST("/api/estates/{estate}/drafts/{draft}/release", {
          params: {
            path: { ...at },
            header: { "If-Match": `"${tally.revision}"`, "Idempotency-Key": `${request}-${tally.release}` },
          },
          body: { message, reason },
        }),
      ),
    onSuccess: () => {
      setMessage("");
      setReason("");
      queries.invalidateQueries({ queryKey: [at.estate, at.draft] });
      queries.invalidateQueries({ queryKey: ["card", at.estate] });
    },
  });
  if (tally.parts === 0) {
    return release.data ? (
      <p role="status" className="border-l-4 border-primary bg-base-200 px-3 py-2 my-2 max-w-3xl">
        ✓ Release {release.data.number} is in force. The draft goes on from it.
      </p>
    ) : (
      <p className="py-2">
        The draft is what is in force already. Edit it, and what would change appears here before anything
        happens.
      </p>
    );
  }
  if (head.role === "reader" || head.role === "planner") {
    return (
      <p className="py-2">
        You are a {head.role} of this estate; an operator or owner can put the draft in force.
      </p>
    );
  }
  const held = release.error instanceof Problem ? release.error.more : {};
  return (
    <form
      className="max-w-3xl space-y-2 mb-5"
      onSubmit={(e) => {
        e.preventDefault();
        release.mutate();
      }}
    >
      <Field label="What this release is for">
        {(aria) => (
          <input
            {...aria}
            className="cell"
            value={message}
            maxLength={1000}
            onChange={(e) => setMessage(e.target.value)}
          />
        )}
      </Field>
      <Field label="Why it may go in spite of new warnings, or errors that stand already">
        {(aria) => (
          <input
            {...aria}
            className="cell"
            value={reason}
            maxLength={1000}
            onChange={(e) => setReason(e.target.value)}
          />
        )}
      </Field>
      <Trouble error={release.error} />
      {held.must_fix || held.asks ? (
        <ul className="max-h-60 overflow-auto">
          {[...(held.must_fix ?? []), ...(held.asks ?? [])].map((f) => (
            <li key={f.id} className="grid grid-cols-[90px_minmax(0,1fr)] gap-x-3">
              <Mark severity={f.severity} />
              <span>{f.title}</span>
            </li>
          ))}
        </ul>
      ) : null}
      <button
        type="submit"
        className="btn btn-sm btn-primary"
        disabled={!message.trim() || release.isPending}
      >
        {release.isPending ? "Releasing …" : `Put in force as release ${head.release + 1}`}
      </button>
    </form>
  );
}
