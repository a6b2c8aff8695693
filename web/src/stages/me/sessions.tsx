import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answered, client } from "../../api/client";
import { Trouble } from "../../parts/trouble";
import { When } from "../../parts/when";

export function Sessions() {
  const queries = useQueryClient();
  const sessions = useQuery({
    queryKey: ["me", "sessions"],
    queryFn: () => answered(client.GET("/api/me/sessions")),
  });
  const end = useMutation({
    mutationFn: (session: number) =>
      answered(client.DELETE("/api/me/sessions/{session}", { params: { path: { session } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["me", "sessions"] }),
  });
  const endAll = useMutation({
    mutationFn: () => answered(client.DELETE("/api/me/sessions")),
    onSuccess: () => queries.resetQueries(),
  });
  return (
    <section className="mb-8">
      <h2 className="text-lg">Where you are signed in</h2>
      <Trouble error={sessions.error ?? end.error ?? endAll.error} />
      <table className="ruled mb-2 text-[13px]">
        <thead>
          <tr>
            <th>Browser</th>
            <th>Address</th>
            <th>Since</th>
            <th>Last seen</th>
            <th>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {(sessions.data ?? []).map((s) => (
            <tr key={s.id}>
              <td className="max-w-96 truncate" title={s.agent}>
                {s.this ? <strong>this one, </strong> : null}
                {s.agent || "unknown"}
              </td>
              <td className="font-mono">{s.address}</td>
              <td>
                <When at={s.opened} />
              </td>
              <td>
                <When at={s.seen} />
              </td>
              <td className="text-right">
                {s.this ? null : (
                  <button type="button" className="btn btn-xs" onClick={() => end.mutate(s.id)}>
                    Sign out there
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <button type="button" className="btn btn-sm" onClick={() => endAll.mutate()}>
        Sign out everywhere
      </button>
    </section>
  );
}
