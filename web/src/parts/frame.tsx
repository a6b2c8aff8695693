import { useEffect, useState } from "react";
import { Link, NavLink, Outlet } from "react-router";
import { EDITS_WAIT, type EstateHead } from "../api/client";
import { standOf, useGateways } from "../api/gateways";
import { type Live, useLive } from "../api/live";
import { type Place, pageOf, usePlace } from "../api/place";
import { useEstate, useMe } from "../api/queries";
import { isOnItsWay, useRollouts } from "../api/rollouts";
import { ConsequenceBar } from "./consequence-bar";
import { Inspector } from "./inspector";
import { Jump } from "./jump";
import { Keys } from "./keys";
import { Knot } from "./knot";
import { many } from "./number";
import { ThemeSwitch } from "./theme-switch";
import { Trouble } from "./trouble";

const stages = [
  { path: "survey", name: "Survey", key: "1" },
  { path: "addresses", name: "Addresses", key: "2" },
  { path: "shape", name: "Shape", key: "3" },
  { path: "paths", name: "Paths", key: "4" },
  { path: "outages", name: "Outages", key: "5" },
  { path: "release", name: "Release", key: "6" },
  { path: "watch", name: "Watch", key: "7" },
] as const;

/** Frame is the page around every stage: the rail, the stage, the consequences. */
export function Frame() {
  const at = usePlace();
  const head = useEstate(at);
  const live = useLive(at, head.data !== undefined && !head.data.fixed);
  if (head.error && !head.data) {
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
    <div className="h-full grid grid-cols-[148px_minmax(0,1fr)] grid-rows-[auto_minmax(0,1fr)_auto]">
      <Rail at={at} head={head.data} live={live} />
      <Standing at={at} head={head.data} live={live} />
      <div className="flex min-h-0">
        <main className="overflow-auto grow min-w-0" key={`${at.estate} ${at.draft}`}>
          <Outlet />
        </main>
        <Inspector at={at} />
      </div>
      <ConsequenceBar at={at} head={head.data} tally={live.tally} />
      <Keys />
      <Jump at={at} />
    </div>
  );
}

function Rail({ at, head, live }: { at: Place; head?: EstateHead; live: Live }) {
  const open = head?.by_stage ?? {};
  return (
    <nav
      aria-label="Stages"
      className="row-span-3 border-r border-base-300 bg-base-200 flex flex-col py-3 overflow-hidden"
    >
      <Link
        to="/"
        className="px-4 pb-2 font-serif font-semibold text-base whitespace-nowrap flex items-center gap-2"
        title="All estates"
      >
        <Knot className="w-5 h-5" />
        Wide Knot
      </Link>
      <Link
        to={`/e/${at.estate}`}
        className="px-4 pb-3 text-xs block hover:bg-base-300/50"
        title="Drafts and releases of this estate"
      >
        <span className="block truncate text-secondary min-h-4">{head?.name}</span>
        <span className="block truncate font-semibold min-h-4" title={head?.draft_name}>
          {head?.draft_name}
        </span>
        <span className="block truncate text-secondary min-h-4">
          {head ? `${many(head.sites, "site")}, ${many(head.tunnels, "tunnel")}` : ""}
        </span>
      </Link>
      <ol>
        {stages.map((s) => (
          <li key={s.path}>
            <NavLink
              to={`${pageOf(at)}/${s.path}`}
              className={({ isActive }) =>
                `flex items-center justify-between px-4 py-2 border-l-4 ${isActive ? "border-primary bg-base-100 font-semibold" : "border-transparent hover:bg-base-300/50"}`
              }
            >
              <span>{s.name}</span>
              {open[s.path] ? (
                <span className="text-xs text-secondary" title={`${open[s.path]} findings to fix here`}>
                  {open[s.path]}
                </span>
              ) : null}
            </NavLink>
          </li>
        ))}
      </ol>
      <There at={at} hears={head !== undefined && !head.fixed} />
      <OnItsWay at={at} />
      <People live={live} />
      <div className="px-4 space-y-1 text-xs">
        <Link className="link link-hover block" to="/me">
          Your account
        </Link>
        <ThemeSwitch />
        <p className="text-secondary">Ctrl+K jumps, ? shows keys</p>
      </div>
    </nav>
  );
}

/** There says, in every stage, whether the gateways are there and as they should be. */
function There({ at, hears }: { at: Place; hears: boolean }) {
  const joined = useGateways(at.estate, hears).data?.gateways ?? [];
  if (joined.length === 0) {
    return null;
  }
  const stands = joined.map(standOf);
  const bad = stands.filter((s) => s.mark === "error").length;
  const odd = stands.filter((s) => s.mark === "warning").length;
  const there = joined.filter((g) => g.up).length;
  return (
    <Link
      to={`${pageOf(at)}/watch`}
      className="px-4 py-2 text-xs block hover:bg-base-300/50"
      data-testid="there"
      title={`${there} of ${many(joined.length, "gateway")} that joined ${there === 1 ? "is" : "are"} there`}
    >
      <span className="block text-secondary">Gateways</span>
      <span className="block">
        {there} of {joined.length} there
      </span>
      {bad > 0 ? <span className="block text-error">■ {bad} in trouble</span> : null}
      {odd > 0 ? <span className="block text-warning">▲ {odd} to look at</span> : null}
    </Link>
  );
}

/** OnItsWay says, in every stage, that a release is being brought to the gateways. */
function OnItsWay({ at }: { at: Place }) {
  const run = useRollouts(at.estate).data?.find(isOnItsWay);
  if (!run) {
    return null;
  }
  const bad = run.state === "stopped";
  const words = { running: "goes on", waiting: "waits", stopped: "stopped", back: "is taken back" } as const;
  return (
    <Link
      to={`${pageOf(at)}/release?view=run`}
      className="px-4 py-2 text-xs block hover:bg-base-300/50"
      data-testid="on-its-way"
    >
      <span className="block text-secondary">Release {run.release} to the gateways</span>
      <span className={`block ${bad ? "text-error" : ""}`}>
        {bad ? "■" : "◐"} {words[run.state as keyof typeof words]}
        {run.round >= 0 ? `, round ${run.round + 1}` : ""}
      </span>
    </Link>
  );
}

/** Who else has the draft open. */
function People({ live }: { live: Live }) {
  const me = useMe().data;
  const others = live.people.filter((p) => p.account !== me?.account);
  return (
    <div className="mt-auto px-4 pb-3 text-xs" data-testid="people">
      {others.length > 0 ? (
        <>
          <p className="text-secondary">Also here</p>
          <ul>
            {others.map((p) => (
              <li key={p.account} className="truncate" title={p.name}>
                <span aria-hidden="true">◆</span> {p.name.split("@")[0]}
              </li>
            ))}
          </ul>
        </>
      ) : null}
    </div>
  );
}

/** Standing says what one must know of the draft before editing it. */
function Standing({ at, head, live }: { at: Place; head?: EstateHead; live: Live }) {
  const me = useMe().data;
  const strip = "px-6 py-1 text-[13px] border-b border-base-300 bg-base-200";
  const step = live.step;
  const waiting = useEditsThatWait();
  return (
    <div>
      {live.joined === false ? (
        <p role="status" className={`${strip} text-warning`}>
          ▲ The server cannot be reached. What you entered stays on this page; it goes on by itself when the
          server is back.
          {waiting > 0
            ? ` ${waiting === 1 ? "An edit waits" : `${waiting} edits wait`} here to be sent then.`
            : ""}
        </p>
      ) : null}
      {head?.fixed ? (
        <p className={strip}>
          ○ You look at {head.draft_name.toLowerCase()}
          {head.revision === head.release ? ", which is in force" : ""}. Nothing in it can be edited;{" "}
          <Link className="link link-primary" to={`/e/${at.estate}`}>
            start a draft from it
          </Link>
          .
        </p>
      ) : head?.discarded ? (
        <p className={strip}>
          ○ This draft was discarded.{" "}
          <Link className="link link-primary" to={`/e/${at.estate}`}>
            Restore it
          </Link>{" "}
          to edit it.
        </p>
      ) : head && head.base < head.release ? (
        <p className={strip}>
          ▲ Release {head.release} came after this draft was begun.{" "}
          <Link className="link link-primary" to={`${pageOf(at)}/release`}>
            Bring it up to date
          </Link>
        </p>
      ) : head?.role === "reader" ? (
        <p className={strip}>
          ○ You are a reader of this estate: you see what others edit, and edit nothing.
        </p>
      ) : null}
      <p role="status" className={step && step.author !== me?.email ? strip : "sr-only"}>
        {step && step.author !== me?.email
          ? `◆ ${step.author}: ${step.kind === "edit" ? "" : `${step.kind} of `}${step.label}`
          : ""}
      </p>
    </div>
  );
}

/** How many edits wait for the server to come back. */
function useEditsThatWait(): number {
  const [waiting, setWaiting] = useState(0);
  useEffect(() => {
    const hear = (e: Event) => setWaiting((e as CustomEvent<number>).detail);
    addEventListener(EDITS_WAIT, hear);
    return () => removeEventListener(EDITS_WAIT, hear);
  }, []);
  return waiting;
}
