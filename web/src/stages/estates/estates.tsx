import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { answered, client } from "../../api/client";
import { useEstates } from "../../api/queries";
import { Knot } from "../../parts/knot";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

export default function Estates() {
  const estates = useEstates();
  const [name, setName] = useState("");
  const navigate = useNavigate();
  const create = useMutation({
    mutationFn: () => answered(client.POST("/api/estates", { body: { name } })),
    onSuccess: (made) => navigate(`/e/${made.key}/survey`),
  });
  return (
    <main className="max-w-xl mx-auto pt-24 px-6">
      <h1 className="text-3xl mb-1 flex items-center gap-3">
        <Knot className="w-8 h-8" />
        Wide Knot
      </h1>
      <p className="text-secondary mb-8">
        Tunnel overlays across many sites, from the survey to the gateways.
      </p>
      <h2 className="text-lg mb-1">Estates</h2>
      <Trouble error={estates.error} />
      {estates.isPending ? <Waiting what="estates" /> : null}
      {estates.data ? (
        <table className="ruled mb-8">
          <tbody>
            {estates.data.map((e) => (
              <tr key={e.key}>
                <td>
                  <Link className="link link-primary font-semibold" to={`/e/${e.key}/survey`}>
                    {e.name}
                  </Link>
                </td>
                <td className="font-mono text-secondary">{e.key}</td>
                <td className="num text-secondary">revision {e.revision}</td>
              </tr>
            ))}
            {estates.data.length === 0 ? (
              <tr>
                <td>
                  No estate yet. An estate is one organisation's whole network; make the first one below.
                </td>
              </tr>
            ) : null}
          </tbody>
        </table>
      ) : null}
      <form
        className="flex gap-2 items-end"
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
        <button type="submit" className="btn btn-primary btn-sm" disabled={!name.trim() || create.isPending}>
          Start empty
        </button>
      </form>
      <Trouble error={create.error} />
    </main>
  );
}
