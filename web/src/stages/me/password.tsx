import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answered, client, Problem } from "../../api/client";
import { Field } from "../../parts/field";
import { Trouble } from "../../parts/trouble";

export function Password() {
  const [now, setNow] = useState("");
  const [next, setNext] = useState("");
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: () => answered(client.PUT("/api/me/password", { body: { now, next } })),
    onSuccess: () => {
      setNow("");
      setNext("");
      queries.invalidateQueries({ queryKey: ["me"] });
    },
  });
  const refused = save.error instanceof Problem ? save.error.fields : {};
  return (
    <section className="mb-8 max-w-2xl">
      <h2 className="text-lg">Password</h2>
      <p className="text-secondary text-[13px]">
        Changing it signs you out everywhere else and ends your API tokens. Who signs in by a provider and has
        no password yet sets one within ten minutes of signing in.
      </p>
      <form
        className="grid grid-cols-[1fr_1fr_auto] gap-2 items-start"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Field label="Current password" error={refused.now}>
          {(aria) => (
            <input
              {...aria}
              className="cell"
              type="password"
              autoComplete="current-password"
              value={now}
              onChange={(e) => setNow(e.target.value)}
            />
          )}
        </Field>
        <Field label="New password, at least 12 characters" error={refused.password}>
          {(aria) => (
            <input
              {...aria}
              className="cell"
              type="password"
              autoComplete="new-password"
              value={next}
              onChange={(e) => setNext(e.target.value)}
            />
          )}
        </Field>
        <button type="submit" className="btn btn-sm mt-4" disabled={!next || save.isPending}>
          Change
        </button>
      </form>
      {save.isSuccess ? (
        <p role="status">✓ Changed. You were signed out everywhere else, and your API tokens have ended.</p>
      ) : (
        <Trouble error={save.error} />
      )}
    </section>
  );
}
