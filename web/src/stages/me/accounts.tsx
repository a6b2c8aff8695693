import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type AccountLine, answered, client } from "../../api/client";
import { AuditList } from "../../parts/audit-list";
import { DeskFrame } from "../../parts/desk-frame";
import { EmailForm } from "../../parts/email-form";
import { HandOn } from "../../parts/hand-on";
import { PeopleTable } from "../../parts/people-table";
import { Trouble } from "../../parts/trouble";

/** Accounts is where administrators say who may sign in. */
export default function Accounts() {
  const queries = useQueryClient();
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: () => answered(client.GET("/api/accounts")) });
  const records = useQuery({
    queryKey: ["accounts", "audit"],
    queryFn: () => answered(client.GET("/api/audit")),
  });
  const again = () => queries.invalidateQueries({ queryKey: ["accounts"] });
  const [handOn, setHandOn] = useState({ link: "", who: "" });
  const add = useMutation({
    mutationFn: (email: string) => answered(client.POST("/api/accounts", { body: { email } })),
    onSuccess: (made, email) => {
      setHandOn({ link: made.link, who: email });
      again();
    },
  });
  const set = useMutation({
    mutationFn: ({ a, closed, administrator }: { a: AccountLine; closed: boolean; administrator: boolean }) =>
      answered(
        client.PUT("/api/accounts/{account}", {
          params: { path: { account: a.id } },
          body: { closed, administrator },
        }),
      ),
    onSuccess: again,
  });
  const link = useMutation({
    mutationFn: (a: AccountLine) =>
      answered(client.POST("/api/accounts/{account}/link", { params: { path: { account: a.id } } })),
    onSuccess: (made, a) => {
      setHandOn({ link: made.link, who: a.email });
      again();
    },
  });
  return (
    <DeskFrame
      title="Accounts"
      lead="Who may sign in to this server? What they may do in an estate, its owners decide."
    >
      <Trouble error={accounts.error ?? add.error ?? set.error ?? link.error} />
      <PeopleTable
        column="State"
        people={accounts.data ?? []}
        name={(a) => a.name}
        state={(a) =>
          [a.administrator ? "administrator" : "", a.closed ? "closed" : a.ready ? "" : "has no password yet"]
            .filter(Boolean)
            .join(", ") || "open"
        }
        actions={(a) => (
          <>
            <button
              type="button"
              className="btn btn-xs"
              aria-label={`New password link for ${a.email}`}
              onClick={() => link.mutate(a)}
            >
              Password link
            </button>
            <button
              type="button"
              className="btn btn-xs"
              onClick={() => set.mutate({ a, closed: a.closed, administrator: !a.administrator })}
            >
              {a.administrator ? "No administrator" : "Make administrator"}
            </button>
            <button
              type="button"
              className="btn btn-xs"
              aria-label={`${a.closed ? "Open" : "Close"} ${a.email}`}
              onClick={() => set.mutate({ a, closed: !a.closed, administrator: a.administrator })}
            >
              {a.closed ? "Open" : "Close"}
            </button>
          </>
        )}
      />
      {handOn.link ? <HandOn link={handOn.link} who={handOn.who} /> : null}
      <EmailForm
        label="E-mail address of someone new"
        action="Add the account"
        busy={add.isPending}
        className="max-w-xl mb-8"
        onAdd={(email, done) => add.mutate(email, { onSuccess: done })}
      />
      <h2 className="text-lg">What was done to accounts and sessions</h2>
      <AuditList records={records.data ?? []} />
    </DeskFrame>
  );
}
