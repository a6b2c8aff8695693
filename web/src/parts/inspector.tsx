import { X } from "lucide-react";
import { type PointerEvent, useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Place, pageOf } from "../api/place";
import { useFindings, useSites } from "../api/queries";
import { LinkBars } from "../stages/survey/link-bars";
import { Mark } from "./mark";

const NARROW = 240;
const WIDE = 640;

/**
 * Inspector shows the site that is looked at, with its places in the other
 * stages. Its left edge is dragged, or moved with the arrows.
 */
export function Inspector({ at }: { at: Place }) {
  const [params, setParams] = useSearchParams();
  const key = params.get("look") ?? "";
  const sites = useSites(at).data;
  const findings = useFindings(at).data ?? [];
  const [width, setWidth] = useState(300);
  const close = () =>
    setParams(
      (p) => {
        p.delete("look");
        return p;
      },
      { replace: true },
    );
  // "i" looks at the site of the row that has the focus.
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const on = e.target instanceof HTMLElement ? e.target : undefined;
      const site = on?.closest<HTMLElement>("[data-site]")?.dataset.site;
      if (e.key === "i" && site && !on?.closest("input, textarea, select") && !e.ctrlKey && !e.metaKey) {
        setParams(
          (p) => {
            p.set("look", site);
            return p;
          },
          { replace: true },
        );
      }
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, [setParams]);
  const site = sites?.find((s) => s.key === key);
  if (!key || !sites) {
    return null;
  }
  const about = findings.filter((f) => f.subjects.some((s) => s.site === key));
  const set = (w: number) => setWidth(Math.min(WIDE, Math.max(NARROW, w)));
  const drag = (e: PointerEvent<HTMLHRElement>) => {
    e.currentTarget.setPointerCapture(e.pointerId);
    if (e.buttons === 1) {
      set(innerWidth - e.clientX);
    }
  };
  return (
    <aside
      aria-label="Inspector"
      className="relative shrink-0 max-w-[45vw] border-l border-base-content bg-base-100 overflow-auto p-4 pl-5 text-[13px]"
      style={{ width }}
    >
      <hr
        aria-orientation="vertical"
        aria-label="Width of the inspector"
        aria-valuenow={width}
        aria-valuemin={NARROW}
        aria-valuemax={WIDE}
        tabIndex={0}
        className="absolute left-0 top-0 h-full w-1.5 border-0 cursor-ew-resize hover:bg-base-300 touch-none"
        onPointerDown={drag}
        onPointerMove={drag}
        onKeyDown={(e) => set(width + ({ ArrowLeft: 20, ArrowRight: -20 }[e.key] ?? 0))}
      />
      <h2 className="text-base flex gap-2 items-start">
        <span className="min-w-0 break-words line-clamp-3" title={site?.name}>
          {site?.name ?? key}
        </span>
        <button
          type="button"
          className="btn btn-xs btn-square ml-auto"
          aria-label="Close the inspector"
          onClick={close}
        >
          <X size={12} />
        </button>
      </h2>
      {site ? (
        <>
          <p className="text-secondary">
            <span className="font-mono">{site.key}</span>, {site.region || "no region"},{" "}
            {site.demand_mbps ?? 0} Mbit/s wanted
          </p>
          <nav aria-label="The site in the stages" className="flex flex-wrap gap-x-3 py-2">
            <Link className="link link-primary" to={`${pageOf(at)}/survey?site=${key}`}>
              Edit
            </Link>
            <Link className="link link-primary" to={`${pageOf(at)}/shape`}>
              Shape
            </Link>
            <Link className="link link-primary" to={`${pageOf(at)}/paths/${key}`}>
              {site.tunnels} tunnels
            </Link>
            <Link className="link link-primary" to={`${pageOf(at)}/paths/${key}?view=routes`}>
              Routes
            </Link>
            <Link className="link link-primary" to={`${pageOf(at)}/paths/${key}?view=changes`}>
              What changes
            </Link>
          </nav>
          <h3 className="text-sm">WAN links</h3>
          <LinkBars links={site.links ?? []} />
          <h3 className="text-sm mt-2">Subnets</h3>
          <ul>
            {(site.subnets ?? []).map((n) => (
              <li key={n.prefix} className="flex flex-wrap gap-x-2">
                <Link
                  className="link link-hover font-mono"
                  to={`${pageOf(at)}/addresses?${new URLSearchParams({ prefix: n.prefix, site: key })}`}
                >
                  {n.prefix}
                </Link>
                <span className="text-secondary">{n.zone}</span>
              </li>
            ))}
          </ul>
          <h3 className="text-sm mt-2">Findings</h3>
          {about.length === 0 ? <p className="text-secondary">None is about this site.</p> : null}
          <ul>
            {about.map((f) => (
              <li key={f.id} className="py-0.5">
                <Mark severity={f.severity} />{" "}
                <Link
                  className="link link-hover"
                  to={`${pageOf(at)}/findings?${new URLSearchParams({ id: f.id })}`}
                >
                  {f.title}
                </Link>
              </li>
            ))}
          </ul>
        </>
      ) : (
        <p>There is no such site in this draft.</p>
      )}
    </aside>
  );
}
