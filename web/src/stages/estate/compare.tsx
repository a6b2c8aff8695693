import { useQuery } from "@tanstack/react-query";
import { useParams, useSearchParams } from "react-router";
import { answered, client, type FileDiff } from "../../api/client";
import { useCard, useReleases } from "../../api/queries";
import { Changes } from "../../parts/changes";
import { DeskFrame, estateTabs } from "../../parts/desk-frame";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** Compare says what it comes to to go from one state of an estate to another. */
export default function Compare() {
  const { estate = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const card = useCard(estate).data;
  const releases = useReleases(estate).data ?? [];
  const from = params.get("from") ?? "released";
  const to = params.get("to") ?? card?.drafts.find((d) => !d.discarded)?.key ?? "";
  const site = params.get("site") ?? "";
  const compared = useQuery({
    queryKey: ["card", estate, "compare", from, to, site],
    queryFn: () =>
      answered(
        client.GET("/api/estates/{estate}/compare", {
          params: { path: { estate }, query: { from, to, ...(site ? { site } : {}) } },
        }),
      ),
    enabled: to !== "",
  });
  const set = (name: string, value: string) =>
    setParams(
      (p) => {
        p.set("from", from);
        p.set("to", to);
        p.delete("site");
        if (value) {
          p.set(name, value);
        }
        return p;
      },
      { replace: true },
    );
  const choice = (name: string, label: string, value: string) => (
    <label className="text-xs text-secondary">
      {label}
      <select className="cell text-base-content" value={value} onChange={(e) => set(name, e.target.value)}>
        <option value="released">the release in force</option>
        {releases.map((r) => (
          <option key={r.number} value={`release-${r.number}`}>
            release {r.number}, {r.message.slice(0, 50)}
          </option>
        ))}
        {(card?.drafts ?? []).map((d) => (
          <option key={d.key} value={d.key}>
            draft {d.name}
          </option>
        ))}
      </select>
    </label>
  );
  const touched = compared.data?.changes.touched ?? [];
  return (
    <DeskFrame
      title={card?.name ?? estate}
      lead="What would change, at whom, in going from one state to another?"
      tabs={estateTabs(estate)}
    >
      <div className="grid grid-cols-3 gap-3 max-w-3xl mb-3">
        {choice("from", "From", from)}
        {choice("to", "to", to)}
        <label className="text-xs text-secondary">
          with the configuration of
          <select
            className="cell text-base-content"
            value={site}
            onChange={(e) => set("site", e.target.value)}
          >
            <option value="">no site</option>
            {touched.map((t) => (
              <option key={t}>{t}</option>
            ))}
          </select>
        </label>
      </div>
      <Trouble error={compared.error} />
      {compared.isFetching && !compared.data ? <Waiting what="the comparison" /> : null}
      {site && compared.data ? <Files files={compared.data.files} /> : null}
      {compared.data ? <Changes changes={compared.data.changes} /> : null}
    </DeskFrame>
  );
}

function Files({ files }: { files: FileDiff[] }) {
  if (files.length === 0) {
    return <p className="py-2">No file of its configuration changes.</p>;
  }
  return (
    <section className="mb-3">
      {files.map((f) => (
        <details key={f.path} open={files.length < 4} className="py-1">
          <summary className="font-mono cursor-pointer">{f.path}</summary>
          <pre className="text-xs bg-base-200 p-2 overflow-x-auto">
            {f.text.split("\n").map((line, i) => (
              <div
                // biome-ignore lint/suspicious/noArrayIndexKey: lines of a text have no other identity
                key={i}
                className={line.startsWith("+") ? "text-success" : line.startsWith("-") ? "text-error" : ""}
              >
                {line || " "}
              </div>
            ))}
          </pre>
        </details>
      ))}
    </section>
  );
}
