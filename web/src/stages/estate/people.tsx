import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { answered, client, type Role } from "../../api/client";
import { useCard } from "../../api/queries";
import { DeskFrame, estateTabs } from "../../parts/desk-frame";
import { EmailForm } from "../../parts/email-form";
import { HandOn } from "../../parts/hand-on";
import { PeopleTable } from "../../parts/people-table";
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
      <PeopleTable
        column="Role"
        people={people.data ?? []}
        name={(p) => `${p.name}${p.closed ? " (account closed)" : ""}`}
        state={(p) =>
          owner ? (
            <RoleChoice
              label={`Role of ${p.email}`}
              role={p.role}
              disabled={set.isPending}
              onChoose={(role) => set.mutate({ email: p.email, role })}
            />
          ) : (
            p.role
          )
        }
        actions={(p) =>
          owner ? (
            <button
              type="button"
              className="btn btn-xs"
              aria-label={`Remove ${p.email}`}
              onClick={() => remove.mutate(p.account)}
            >
              Remove
            </button>
          ) : null
        }
      />
      {owner ? (
        <EmailForm
          label="E-mail address of someone else"
          action="Add"
          busy={set.isPending}
          className="max-w-2xl mb-3"
          onAdd={(email, done) => set.mutate({ email, role }, { onSuccess: done })}
        >
          {/* biome-ignore lint/a11y/noLabelWithoutControl: the select is in RoleChoice */}
          <label className="text-xs text-secondary flex flex-col">
            who becomes
            <RoleChoice role={role} onChoose={setRole} />
          </label>
        </EmailForm>
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

function RoleChoice(props: {
  role: Role;
  label?: string;
  disabled?: boolean;
  onChoose: (role: Role) => void;
}) {
  return (
    <select
      className="cell w-32 text-base-content"
      aria-label={props.label}
      value={props.role}
      disabled={props.disabled}
      onChange={(e) => props.onChoose(e.target.value as Role)}
    >
      {roles.map((r) => (
        <option key={r.role}>{r.role}</option>
      ))}
    </select>
  );
}
