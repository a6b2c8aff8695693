import { useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, NavLink } from "react-router";
import { answered, client } from "../api/client";
import { useMe } from "../api/queries";
import { Knot } from "./knot";
import { ThemeSwitch } from "./theme-switch";

/** DeskFrame is the page around everything that belongs to no stage. */
export function DeskFrame({
  title,
  lead,
  tabs,
  children,
}: {
  title: string;
  lead?: ReactNode;
  tabs?: { to: string; name: string }[];
  children: ReactNode;
}) {
  const me = useMe().data;
  const queries = useQueryClient();
  const leave = async () => {
    await answered(client.DELETE("/api/session"));
    await queries.resetQueries();
  };
  return (
    <div className="h-full overflow-auto">
      <header className="border-b border-base-300 bg-base-200 px-6 h-11 flex items-center gap-5 text-[13px]">
        <Link
          to="/"
          className="font-serif font-semibold text-base flex items-center gap-2"
          title="All estates"
        >
          <Knot className="w-5 h-5" />
          Wide Knot
        </Link>
        <nav aria-label="Account" className="ml-auto flex items-center gap-5">
          {me?.administrator ? (
            <Link className="link link-hover" to="/accounts">
              Accounts
            </Link>
          ) : null}
          <Link className="link link-hover font-mono" to="/me" title="Password, sessions, tokens">
            {me?.email}
          </Link>
          <ThemeSwitch />
          <button type="button" className="link link-hover" onClick={leave}>
            Sign out
          </button>
        </nav>
      </header>
      <main className="max-w-5xl mx-auto px-6 pt-6 pb-12">
        <h1 className="text-2xl">{title}</h1>
        {lead ? <p className="text-secondary text-[13px]">{lead}</p> : null}
        {tabs ? (
          <nav aria-label="Pages" className="flex gap-6 border-b border-base-300 mt-3 mb-4">
            {tabs.map((t) => (
              <NavLink
                key={t.to}
                to={t.to}
                end
                className={({ isActive }) =>
                  `py-1.5 -mb-px border-b-2 ${isActive ? "border-primary font-semibold" : "border-transparent hover:border-base-content"}`
                }
              >
                {t.name}
              </NavLink>
            ))}
          </nav>
        ) : (
          <div className="mb-4" />
        )}
        {children}
      </main>
    </div>
  );
}

/** The pages of an estate as a whole. */
export const estateTabs = (estate: string) => [
  { to: `/e/${estate}`, name: "Drafts and releases" },
  { to: `/e/${estate}/compare`, name: "Compare" },
  { to: `/e/${estate}/people`, name: "People" },
  { to: `/e/${estate}/audit`, name: "Audit" },
];
