import { Plus } from "lucide-react";
import { useRef } from "react";
import { Link } from "react-router";
import type { LedgerSite } from "../../api/client";
import { apiOf, type Place, usePlace } from "../../api/place";
import { useEstate, useMayEdit, useSites } from "../../api/queries";
import { useAddress } from "../../parts/address";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { Ledger } from "./ledger";
import { NEW_SITE, SiteEditor } from "./site-editor";

export default function Survey() {
  const at = usePlace();
  const sites = useSites(at);
  const head = useEstate(at);
  const mayEdit = useMayEdit(at);
  const [params, set] = useAddress();
  const open = params.get("site") ?? "";
  const show = (site: string) => set({ link: "", prefix: "", site });
  const { rows, deleted } = useKept(sites.data, open);
  return (
    <div className="h-full flex flex-col">
      <StageHead
        title="Survey"
        actions={
          <>
            <input
              className="cell w-52"
              aria-label="Filter the ledger"
              placeholder="Filter: name, prefix, provider"
              value={params.get("q") ?? ""}
              onChange={(e) => set({ q: e.target.value })}
            />
            <Link className="btn btn-sm" to="regions">
              Regions
            </Link>
            {mayEdit ? (
              <Link className="btn btn-sm" to="import">
                Import
              </Link>
            ) : null}
            <Exports at={at} />
            {mayEdit ? (
              <button type="button" className="btn btn-sm btn-primary" onClick={() => show(NEW_SITE)}>
                <Plus size={14} aria-hidden="true" /> Add a site
              </button>
            ) : null}
          </>
        }
      >
        Which sites are there, how does each reach the world, and what is behind it?
      </StageHead>
      <div className="px-6">
        <Trouble error={sites.error} />
        {deleted ? (
          <p role="status" className="text-warning">
            ▲ {deleted.name} was deleted meanwhile. What you typed is still in its form; saving adds the site
            again.
          </p>
        ) : null}
        {open === NEW_SITE ? (
          <SiteEditor at={at} head={head.data} others={sites.data} onClose={() => show("")} />
        ) : null}
      </div>
      {sites.isPending ? <Waiting what="the sites" /> : null}
      {sites.data?.length === 0 && open !== NEW_SITE ? <NoSites at={at} /> : null}
      {rows && rows.length > 0 && head.data ? (
        <Ledger
          at={at}
          head={head.data}
          sites={rows}
          open={open}
          query={params.get("q") ?? ""}
          onOpen={show}
        />
      ) : null}
    </div>
  );
}

/**
 * The ledger's rows, and among them the site whose form is open even when
 * somebody else has deleted it, so that nothing typed is lost.
 */
function useKept(sites: LedgerSite[] | undefined, open: string) {
  const seen = useRef<{ site: LedgerSite; at: number }>(undefined);
  const at = sites?.findIndex((s) => s.key === open) ?? -1;
  const site = sites?.[at];
  if (site) {
    seen.current = { site, at };
  }
  const kept = seen.current;
  if (!sites || site || kept?.site.key !== open) {
    return { rows: sites };
  }
  return { rows: sites.toSpliced(kept.at, 0, kept.site), deleted: kept.site };
}

function Exports({ at }: { at: Place }) {
  const file = "px-3 py-1 block hover:bg-base-200";
  return (
    <details className="dropdown dropdown-end">
      <summary className="btn btn-sm">Export</summary>
      <div className="dropdown-content z-20 bg-base-100 border border-base-content mt-1 whitespace-nowrap">
        <a className={file} href={`${apiOf(at)}/document?format=yaml`} download>
          Estate document (YAML)
        </a>
        <a className={file} href={`${apiOf(at)}/document?format=json`} download>
          Estate document (JSON)
        </a>
        {["sites", "links", "subnets"].map((s) => (
          <a key={s} className={file} href={`${apiOf(at)}/sheets/${s}`} download>
            Sheet of {s} (CSV)
          </a>
        ))}
      </div>
    </details>
  );
}

function NoSites({ at }: { at: Place }) {
  return (
    <section className="p-6 max-w-2xl">
      <h2 className="text-lg mb-2">The ledger is empty</h2>
      <p className="mb-3">
        It will hold one row for each site: its WAN links as bars, how each can be reached, and the subnets
        behind it. Most engineers have that in spreadsheets already:
      </p>
      <ol className="list-decimal pl-5 space-y-1 mb-4">
        <li>
          Take the heads of the three sheets:{" "}
          {["sites", "links", "subnets"].map((s) => (
            <a
              key={s}
              className="link link-primary mr-2 font-mono"
              href={`${apiOf(at)}/sheets/${s}?blank=true`}
              download
            >
              {s}.csv
            </a>
          ))}
        </li>
        <li>Fill them, or rename the columns of the sheets you have. Unknown columns are left alone.</li>
        <li>
          <Link className="link link-primary" to="import">
            Import them
          </Link>
          : a preview shows every bad cell before anything is taken.
        </li>
      </ol>
    </section>
  );
}
