import type { ReactNode } from "react";

/** PeopleTable lists people, with what one can do about each. */
export function PeopleTable<T extends { email: string }>(props: {
  /** What the third column shows. */
  column: string;
  people: T[];
  name: (person: T) => string;
  state: (person: T) => ReactNode;
  actions: (person: T) => ReactNode;
}) {
  return (
    <table className="ruled mb-4">
      <thead>
        <tr>
          <th>Name</th>
          <th>E-mail address</th>
          <th>{props.column}</th>
          <th>
            <span className="sr-only">Actions</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {props.people.map((p) => (
          <tr key={p.email}>
            <td className="max-w-60 truncate" title={props.name(p)}>
              {props.name(p)}
            </td>
            <td className="font-mono">{p.email}</td>
            <td>{props.state(p)}</td>
            <td className="text-right whitespace-nowrap space-x-2">{props.actions(p)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
