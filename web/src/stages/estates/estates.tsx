import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { answered, client } from "../../api/client";
import { useEstates, useMe } from "../../api/queries";
import { DeskFrame } from "../../parts/desk-frame";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** Estates lists the estates of which one is a member. */
export default function Estates() {
  const estates = useEstates();
  const me = useMe().data;
  const [name, setName] = useState("");
  const navigate = useNavigate();
  const create = useMutation({
    mutationFn: () => answered(client.POST("/api/estates", { body: { name } })),
    onSuccess: (made) => navigate(`/e/${made.key}/d/first/survey`),
  });
  return (
    <DeskFrame title="Estates" lead="An estate is one organisation's whole network.">
      <Trouble error={estates.error} />
      {estates.isPending ? <Waiting what="estates" /> : null}
      {estates.data && estates.data.length > 0 ? (
        <table className="ruled mb-8">
          <thead>
            <tr>
              <th>Name</th>
              <th>Key</th>
              <th>In force</th>
              <th>You are its</th>
            </tr>
          </thead>
          <tbody>
            {estates.data.map((e) => (
              <tr key={e.key}>
                <td>
                  <Link className="link link-primary font-semibold" to={`/e/${e.key}`}>
                    {e.name}
                  </Link>
                </td>
                <td className="font-mono text-secondary">{e.key}</td>
                <td>{e.release ? `release ${e.release}` : "nothing yet"}</td>
                <td>{e.role}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      {estates.data?.length === 0 ? (
        <p className="mb-6">
          {me?.administrator
            ? "No estate yet. Make the first one below."
            : "You are not a member of any estate yet. An owner of one can add you."}
        </p>
      ) : null}
      {me?.administrator ? (
        <form
          className="flex gap-2 items-end max-w-xl"
          onSubmit={(e) => {
            e.preventDefault();
            create.mutate();
          }}
        >
          <label className="grow text-xs text-secondary">
            Name of a new estate
            <input
              className="cell text-base-content"
              value={name}
              onChange={(e) => setName(e.target.value)}
              maxLength={120}
            />
          </label>
          <button
            type="submit"
            className="btn btn-primary btn-sm"
            disabled={!name.trim() || create.isPending}
          >
            Start empty
          </button>
        </form>
      ) : null}
      <Trouble error={create.error} />
    </DeskFrame>
  );
}
