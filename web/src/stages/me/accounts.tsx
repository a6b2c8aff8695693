import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type AccountLine, answered, client } from "../../api/client";
import { AuditList } from "../../parts/audit-list";
import { DeskFrame } from "../../parts/desk-frame";
import { HandOn } from "../../parts/hand-on";
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
  const [email, setEmail] = useState("");
  const [handOn, setHandOn] = useState({ link: "", who: "" });
  const add = useMutation({
    mutationFn: () => answered(client.POST("/api/accounts", { body: { email } })),
    onSuccess: (made) => {
      setHandOn({ link: made.link, who: email });
      setEmail("");
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
      <table className="ruled mb-3">
        <thead>
          <tr>
            <th>Name</th>
            <th>E-mail address</th>
            <th>State</th>
            <th>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {(accounts.data ?? []).map((a) => (
            <tr key={a.id}>
              <td className="max-w-60 truncate" title={a.name}>
                {a.name}
              </td>
              <td className="font-mono">{a.email}</td>
              <td>
                {[
                  a.administrator ? "administrator" : "",
                  a.closed ? "closed" : a.ready ? "" : "has no password yet",
                ]
                  .filter(Boolean)
                  .join(", ") || "open"}
              </td>
              <td className="text-right whitespace-nowrap space-x-2">
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
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {handOn.link ? <HandOn link={handOn.link} who={handOn.who} /> : null}
      <form
        className="flex gap-2 items-end max-w-xl mb-8"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <label className="grow text-xs text-secondary">
          E-mail address of someone new
          <input
            className="cell text-base-content"
            type="email"
            value={email}
            onChange={(e) => setEmail(e.target.value)}
          />
        </label>
        <button type="submit" className="btn btn-sm btn-primary" disabled={!email.trim() || add.isPending}>
          Add the account
        </button>
      </form>
      <h2 className="text-lg">What was done to accounts and sessions</h2>
      <AuditList records={records.data ?? []} />
    </DeskFrame>
  );
}
