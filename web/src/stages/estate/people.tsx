import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { answered, client, type Role } from "../../api/client";
import { useCard } from "../../api/queries";
import { DeskFrame, estateTabs } from "../../parts/desk-frame";
import { HandOn } from "../../parts/hand-on";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

const roles: { role: Role; may: string }[] = [
  { role: "reader", may: "looks at everything but secrets" },
  { role: "planner", may: "also makes and edits drafts" },
  { role: "operator", may: "also releases, and reveals secrets" },
  { role: "owner", may: "also decides who may do what" },
];

/** People says who may do what in an estate. */
export default function People() {
  const { estate = "" } = useParams();
  const card = useCard(estate).data;
  const queries = useQueryClient();
  const path = { estate };
  const people = useQuery({
    queryKey: ["card", estate, "people"],
    queryFn: () => answered(client.GET("/api/estates/{estate}/people", { params: { path } })),
  });
  const again = () => queries.invalidateQueries({ queryKey: ["card", estate] });
  const set = useMutation({
    mutationFn: (body: { email: string; role: Role }) =>
      answered(client.PUT("/api/estates/{estate}/people", { params: { path }, body })),
    onSuccess: again,
  });
  const remove = useMutation({
    mutationFn: (account: number) =>
      answered(
        client.DELETE("/api/estates/{estate}/people/{account}", { params: { path: { estate, account } } }),
      ),
    onSuccess: again,
  });
  const [email, setEmail] = useState("");
  const [role, setRole] = useState<Role>("reader");
  const owner = card?.role === "owner";
  return (
    <DeskFrame
      title={card?.name ?? estate}
      lead="Who may see this estate, and do what?"
      tabs={estateTabs(estate)}
    >
      <Trouble error={people.error ?? set.error ?? remove.error} />
      {people.isPending ? <Waiting what="the people" /> : null}
      <table className="ruled mb-6">
        <thead>
          <tr>
            <th>Name</th>
            <th>E-mail address</th>
            <th>Role</th>
            <th>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {(people.data ?? []).map((p) => (
            <tr key={p.account}>
              <td>
                {p.name}
                {p.closed ? " (account closed)" : ""}
              </td>
              <td className="font-mono">{p.email}</td>
              <td>
                {owner ? (
                  <select
                    className="cell w-32"
                    aria-label={`Role of ${p.email}`}
                    value={p.role}
                    disabled={set.isPending}
                    onChange={(e) => set.mutate({ email: p.email, role: e.target.value as Role })}
                  >
                    {roles.map((r) => (
                      <option key={r.role}>{r.role}</option>
                    ))}
                  </select>
                ) : (
                  p.role
                )}
              </td>
              <td className="text-right">
                {owner ? (
                  <button
                    type="button"
                    className="btn btn-xs"
                    aria-label={`Remove ${p.email}`}
                    onClick={() => remove.mutate(p.account)}
                  >
                    Remove
                  </button>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {owner ? (
        <form
          className="flex gap-2 items-end max-w-2xl mb-3"
          onSubmit={(e) => {
            e.preventDefault();
            set.mutate({ email, role }, { onSuccess: () => setEmail("") });
          }}
        >
          <label className="grow text-xs text-secondary">
            E-mail address of someone else
            <input
              className="cell text-base-content"
              type="email"
              value={email}
              onChange={(e) => setEmail(e.target.value)}
            />
          </label>
          <label className="text-xs text-secondary">
            who becomes
            <select
              className="cell text-base-content"
              value={role}
              onChange={(e) => setRole(e.target.value as Role)}
            >
              {roles.map((r) => (
                <option key={r.role}>{r.role}</option>
              ))}
            </select>
          </label>
          <button type="submit" className="btn btn-sm btn-primary" disabled={!email.trim() || set.isPending}>
            Add
          </button>
        </form>
      ) : null}
      {set.data?.link ? <HandOn link={set.data.link} who={set.variables?.email ?? ""} /> : null}
      <dl className="grid grid-cols-[6rem_1fr] text-[13px] text-secondary mt-6">
        {roles.map((r) => (
          <div key={r.role} className="contents">
            <dt>{r.role}</dt>
            <dd>{r.may}</dd>
          </div>
        ))}
      </dl>
    </DeskFrame>
  );
}
