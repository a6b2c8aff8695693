import { useEffect, useState } from "react";
import { Link, NavLink, Outlet, useLocation, useParams } from "react-router";
import { useEstate, useStep } from "../api/queries";
import { Keys } from "./keys";
import { Knot } from "./knot";
import { Mark } from "./mark";
import { Trouble } from "./trouble";

const stages = [
  { path: "survey", name: "Survey", key: "1" },
  { path: "addresses", name: "Addresses", key: "2" },
  { path: "shape", name: "Shape", key: "3" },
  { path: "paths", name: "Paths", key: "4" },
] as const;

/** Frame is the page around every stage: the rail, the stage, the edit line. */
export function Frame() {
  const { estate = "" } = useParams();
  const head = useEstate(estate);
  if (head.error) {
    return (
      <main className="p-8 max-w-2xl">
        <Trouble error={head.error} />
        <Link className="link link-primary" to="/">
          All estates
        </Link>
      </main>
    );
  }
  return (
    <div className="h-full grid grid-cols-[148px_minmax(0,1fr)] grid-rows-[minmax(0,1fr)_auto]">
      <Rail estate={estate} name={head.data?.name ?? ""} open={head.data?.by_stage ?? {}} />
      <main className="overflow-auto" key={estate}>
        <Outlet />
      </main>
      <EditLine estate={estate} />
      <Keys />
    </div>
  );
}

function Rail({ estate, name, open }: { estate: string; name: string; open: Record<string, number> }) {
  return (
    <nav
      aria-label="Stages"
      className="row-span-2 border-r border-base-300 bg-base-200 flex flex-col py-3 overflow-hidden"
    >
      <Link
        to="/"
        className="px-4 pb-1 font-serif font-semibold text-base whitespace-nowrap flex items-center gap-2"
        title="All estates"
      >
        <Knot className="w-5 h-5" />
        Wide Knot
      </Link>
      <div className="px-4 pb-3 text-xs text-secondary truncate" title={name}>
        {name}
      </div>
      <ol>
        {stages.map((s) => (
          <li key={s.path}>
            <NavLink
              to={`/e/${estate}/${s.path}`}
              className={({ isActive }) =>
                `flex items-center justify-between px-4 py-2 border-l-4 ${isActive ? "border-primary bg-base-100 font-semibold" : "border-transparent hover:bg-base-300/50"}`
              }
            >
              <span>{s.name}</span>
              {open[s.path] ? (
                <span className="text-xs text-secondary" title={`${open[s.path]} findings to mend here`}>
                  {open[s.path]}
                </span>
              ) : null}
            </NavLink>
          </li>
        ))}
      </ol>
      <div className="mt-auto px-4 space-y-1 text-xs">
        <ThemeSwitch />
        <p className="text-secondary">Press ? for keys</p>
      </div>
    </nav>
  );
}

function ThemeSwitch() {
  const [theme, setTheme] = useState(document.documentElement.dataset.theme ?? "paper");
  const other = theme === "paper" ? "night" : "paper";
  return (
    <button
      type="button"
      className="link link-hover"
      onClick={() => {
        document.documentElement.dataset.theme = other;
        try {
          localStorage.setItem("wideknot-theme", other);
        } catch {
          // storage may be switched off; the theme lasts as long as the page
        }
        setTheme(other);
      }}
    >
      {other === "night" ? "Dark theme" : "Light theme"}
    </button>
  );
}

/** The line at the bottom: the last edit, how to take it back, what is open. */
function EditLine({ estate }: { estate: string }) {
  const head = useEstate(estate).data;
  const undo = useStep(estate, "undo");
  const redo = useStep(estate, "redo");
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && e.target.closest("input, textarea, select");
      if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== "z" || typing) {
        return;
      }
      e.preventDefault();
      (e.shiftKey ? redo : undo).mutate();
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, [undo.mutate, redo.mutate, undo, redo]);
  const location = useLocation();
  // What an undo had to say belongs to the page on which it was said.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the place is the trigger
  useEffect(() => {
    undo.reset();
    redo.reset();
  }, [location.pathname]);
  const failed = undo.error ?? redo.error;
  return (
    <footer className="border-t border-base-300 bg-base-200 px-4 h-10 flex items-center gap-4 text-[13px]">
      <button
        type="button"
        className="btn btn-xs"
        disabled={!head?.undo || undo.isPending}
        onClick={() => undo.mutate()}
        title="Ctrl+Z"
      >
        Undo
      </button>
      <button
        type="button"
        className="btn btn-xs"
        disabled={!head?.redo || redo.isPending}
        onClick={() => redo.mutate()}
        title="Ctrl+Shift+Z"
      >
        Redo
      </button>
      <span className="truncate" aria-live="polite" data-testid="last-edit">
        {failed ? failed.message : head?.undo ? `Last edit: ${head.undo}` : "No edits yet"}
      </span>
      <span className="ml-auto flex gap-4 whitespace-nowrap">
        <span>{head?.sites ?? 0} sites</span>
        <span>{head?.tunnels ?? 0} tunnels</span>
        {(["error", "warning", "note"] as const).map((s) => (
          <Mark key={s} severity={s} count={head?.findings[s] ?? 0} />
        ))}
      </span>
    </footer>
  );
}
