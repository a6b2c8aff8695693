import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { apiOf, pageOf, usePlace } from "../../api/place";
import { useEstate, useSites } from "../../api/queries";
import { download } from "../../parts/download";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** Paths lists the sites with what was derived for each, and hands out all configurations. */
export default function Paths() {
  const at = usePlace();
  const sites = useSites(at);
  const head = useEstate(at).data;
  const [keys, setKeys] = useState(false);
  const [changed, setChanged] = useState(false);
  const base = head?.fixed ? head.base - 1 : (head?.base ?? 0);
  const archive = useMutation({
    mutationFn: () =>
      download(`${apiOf(at)}/archive`, { keys, since: changed && base > 0 ? base : undefined }),
  });
  const rows = sites.data ?? [];
  return (
    <div className="pb-10">
      <StageHead
        title="Paths"
        actions={
          <>
            <Link className="btn btn-sm" to="follow">
              Follow a packet
            </Link>
            <label className="flex items-center gap-2 text-[13px]">
              <input
                type="checkbox"
                className="accent-primary"
                checked={keys}
                onChange={(e) => setKeys(e.target.checked)}
              />
              with private keys
            </label>
            {base > 0 ? (
              <label className="flex items-center gap-2 text-[13px]">
                <input
                  type="checkbox"
                  className="accent-primary"
                  checked={changed}
                  onChange={(e) => setChanged(e.target.checked)}
                />
                only changes since release {base}
              </label>
            ) : null}
            <button
              type="button"
              className="btn btn-sm btn-primary"
              disabled={archive.isPending || !rows.some((s) => s.tunnels > 0)}
              onClick={() => archive.mutate()}
            >
              {archive.isPending ? <span className="loading loading-dots loading-xs" /> : null}
              {changed && base > 0 ? "Changed" : "All"} configurations (zip)
            </button>
          </>
        }
      >
        Which tunnels and routes follow for each site?
      </StageHead>
      <div className="px-6">
        <Trouble error={sites.error ?? archive.error} />
        {sites.isPending ? <Waiting what="the sites" /> : null}
        {sites.data && !rows.some((s) => s.tunnels > 0) ? (
          <p className="py-4 max-w-xl">
            No tunnel follows from the design yet.{" "}
            <Link className="link link-primary" to={`${pageOf(at)}/shape`}>
              Choose the hubs in Shape
            </Link>
            ; each site's tunnels, routes and configuration will then be here.
          </p>
        ) : null}
        {rows.some((s) => s.tunnels > 0) ? (
          <table className="ruled max-w-3xl">
            <thead>
              <tr>
                <th>Site</th>
                <th>Region</th>
                <th className="num">Links</th>
                <th className="num">Tunnels</th>
                <th className="num">Subnets shared</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((s) => (
                <tr key={s.key}>
                  <td>
                    <Link className="link link-primary" to={s.key}>
                      {s.name}
                    </Link>{" "}
                    <span className="font-mono text-xs text-secondary">{s.key}</span>
                  </td>
                  <td>{s.region}</td>
                  <td className="num">{s.links?.length ?? 0}</td>
                  <td className="num">{s.tunnels}</td>
                  <td className="num">{s.subnets?.filter((n) => n.share?.length).length ?? 0}</td>
                </tr>
              ))}
            </tbody>
          </table>
        ) : null}
      </div>
    </div>
  );
}
