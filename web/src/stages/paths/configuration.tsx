import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { answered, client, type SitePlan } from "../../api/client";
import { apiOf, type Place } from "../../api/place";
import { Copy } from "../../parts/copy";
import { download, save } from "../../parts/download";
import { Trouble } from "../../parts/trouble";

/** Configuration shows a site's files, to read, copy and download; the private key only when asked for. */
export function Configuration({ plan, at }: { plan: SitePlan; at: Place }) {
  const [params, setParams] = useSearchParams();
  const [keys, setKeys] = useState(false);
  const file = plan.files.find((f) => f.path === params.get("file")) ?? plan.files[0];
  const archive = useMutation({
    mutationFn: () => download(`${apiOf(at)}/archive`, { site: plan.site, keys }),
  });
  const reveal = useMutation({
    mutationFn: () =>
      answered(
        client.POST("/api/estates/{estate}/drafts/{draft}/sites/{site}/private-key", {
          params: { path: { ...at, site: plan.site } },
        }),
      ),
  });
  if (!file) {
    return <p className="py-4 text-secondary">Without tunnels there is nothing to configure.</p>;
  }
  return (
    <>
      <div className="flex flex-wrap gap-3 items-center py-1">
        <button
          type="button"
          className="btn btn-xs btn-primary"
          disabled={archive.isPending}
          onClick={() => archive.mutate()}
        >
          Download all (zip)
        </button>
        <label className="flex items-center gap-2 text-[13px]">
          <input
            type="checkbox"
            className="accent-primary"
            checked={keys}
            onChange={(e) => setKeys(e.target.checked)}
          />
          with the private key
        </label>
        <span className="ml-auto flex items-center gap-2 text-[13px]">
          {reveal.data ? (
            <>
              Private key <code className="font-mono">{reveal.data.private_key}</code>
              <button type="button" className="btn btn-xs" onClick={() => reveal.reset()}>
                Hide
              </button>
            </>
          ) : (
            <button
              type="button"
              className="btn btn-xs"
              disabled={reveal.isPending}
              onClick={() => reveal.mutate()}
            >
              Reveal the private key
            </button>
          )}
        </span>
      </div>
      <Trouble error={archive.error ?? reveal.error} />
      <div className="grid grid-cols-[230px_minmax(0,1fr)] gap-4 mt-1">
        <ul className="font-mono text-[13px]">
          {plan.files.map((f) => (
            <li key={f.path}>
              <button
                type="button"
                aria-current={f.path === file.path}
                className={`w-full text-left truncate px-2 py-0.5 border-l-4 ${f.path === file.path ? "border-primary bg-base-200 font-semibold" : "border-transparent hover:bg-base-200"}`}
                onClick={() => setParams({ view: "configuration", file: f.path }, { replace: true })}
              >
                {f.path.replace(`${plan.site}/`, "")}
              </button>
            </li>
          ))}
        </ul>
        <div className="min-w-0">
          <div className="flex gap-2 items-center border-b border-base-content pb-1">
            <span className="font-mono text-[13px] truncate">{file.path}</span>
            <span className="ml-auto" />
            <Copy text={file.text} />
            <button
              type="button"
              className="btn btn-xs"
              onClick={() =>
                save(new Blob([file.text], { type: "text/plain" }), file.path.split("/").pop() ?? "file")
              }
            >
              Download
            </button>
          </div>
          <pre className="font-mono text-xs leading-5 overflow-x-auto py-2">{file.text}</pre>
        </div>
      </div>
    </>
  );
}
