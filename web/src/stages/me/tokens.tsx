import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answered, client, type Role } from "../../api/client";
import { useEstates } from "../../api/queries";
import { Copy } from "../../parts/copy";
import { Trouble } from "../../parts/trouble";
import { When } from "../../parts/when";

const roles: Role[] = ["reader", "planner", "operator", "owner"];

const inDays = (days: number) => new Date(Date.now() + days * 86_400_000).toISOString();

export function Tokens() {
  const queries = useQueryClient();
  const tokens = useQuery({
    queryKey: ["me", "tokens"],
    queryFn: () => answered(client.GET("/api/me/tokens")),
  });
  const again = () => queries.invalidateQueries({ queryKey: ["me", "tokens"] });
  const end = useMutation({
    mutationFn: (token: number) =>
      answered(client.DELETE("/api/me/tokens/{token}", { params: { path: { token } } })),
    onSuccess: again,
  });
  return (
    <section>
      <h2 className="text-lg">API tokens</h2>
      <p className="text-secondary text-[13px] mb-2">
        For programs. A token does in estates what you may, up to its role, until it expires.
      </p>
      <Trouble error={tokens.error ?? end.error} />
      {tokens.data && tokens.data.length > 0 ? (
        <table className="ruled mb-3 text-[13px]">
          <thead>
            <tr>
              <th>For what</th>
              <th>Up to</th>
              <th>Estate</th>
              <th>Last used</th>
              <th>Expires</th>
              <th>
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {tokens.data.map((t) => (
              <tr key={t.id}>
                <td>{t.name}</td>
                <td>{t.role}</td>
                <td className="font-mono">{t.estate || "all of yours"}</td>
                <td>{t.used ? <When at={t.used} /> : "never"}</td>
                <td>
                  <When at={t.expires} />
                </td>
                <td className="text-right">
                  <button
                    type="button"
                    className="btn btn-xs"
                    aria-label={`End ${t.name}`}
                    onClick={() => end.mutate(t.id)}
                  >
                    End
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      <NewToken onMade={again} />
    </section>
  );
}

function NewToken({ onMade }: { onMade: () => void }) {
  const estates = useEstates().data ?? [];
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("reader");
  const [estate, setEstate] = useState("");
  const [days, setDays] = useState(90);
  const make = useMutation({
    mutationFn: () =>
      answered(client.POST("/api/me/tokens", { body: { name, role, estate, expires: inDays(days) } })),
    onSuccess: () => {
      setName("");
      onMade();
    },
  });
  return (
    <>
      <form
        className="grid grid-cols-[1fr_8rem_12rem_8rem_auto] gap-2 items-end max-w-4xl"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <label className="text-xs text-secondary">
          What it is for
          <input
            className="cell text-base-content"
            value={name}
            maxLength={100}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="text-xs text-secondary">
          Up to
          <select
            className="cell text-base-content"
            value={role}
            onChange={(e) => setRole(e.target.value as Role)}
          >
            {roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </label>
        <label className="text-xs text-secondary">
          Estate
          <select
            className="cell text-base-content"
            value={estate}
            onChange={(e) => setEstate(e.target.value)}
          >
            <option value="">all of yours</option>
            {estates.map((e) => (
              <option key={e.key} value={e.key}>
                {e.name}
              </option>
            ))}
          </select>
        </label>
        <label className="text-xs text-secondary">
          Expires after
          <select
            className="cell text-base-content"
            value={days}
            onChange={(e) => setDays(Number(e.target.value))}
          >
            {[7, 30, 90, 365].map((d) => (
              <option key={d} value={d}>
                {d} days
              </option>
            ))}
          </select>
        </label>
        <button type="submit" className="btn btn-sm" disabled={!name.trim() || make.isPending}>
          Make a token
        </button>
      </form>
      <Trouble error={make.error} />
      {make.data ? (
        <div role="status" className="border-l-4 border-primary bg-base-200 px-3 py-2 my-3">
          <p>Copy the token now; it is not shown again:</p>
          <p className="font-mono text-[13px] break-all">
            {make.data.secret} <Copy text={make.data.secret} />
          </p>
        </div>
      ) : null}
    </>
  );
}
