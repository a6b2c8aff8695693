import { type KeyboardEvent, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Finding, Subject } from "../api/client";
import { type Place, pageOf } from "../api/place";
import { useMayEdit } from "../api/queries";
import { lookAt } from "./look";
import { Mark } from "./mark";
import { useChosen } from "./repairs";

/** The address of the place where a subject is fixed. */
export function placeOf(at: Place, s: Subject, code = ""): string {
  if (s.site) {
    const params = new URLSearchParams({ site: s.site });
    if (s.link) {
      params.set("link", s.link);
    } else if (s.prefix) {
      params.set("prefix", s.prefix);
    }
    return `${pageOf(at)}/survey?${params}`;
  }
  const view = /^(policy|path|breakout)\//.test(code) ? "&view=policy" : "";
  return `${pageOf(at)}/shape?overlay=${s.overlay ?? ""}${view}`;
}

const nameOf = (s: Subject) =>
  s.site ? [s.site, s.link, s.link ? "" : s.prefix].filter(Boolean).join(" ") : `overlay ${s.overlay}`;

/**
 * FindingList shows findings with their evidence, their place and the repairs
 * that can be chosen: arrows move between findings, digits choose a repair,
 * Enter goes to the place.
 */
export function FindingList({ at, findings, none }: { at: Place; findings: Finding[]; none: string }) {
  const navigate = useNavigate();
  const { chosen, choose } = useChosen();
  const mayEdit = useMayEdit(at);
  const list = useRef<HTMLUListElement>(null);
  if (findings.length === 0) {
    return <p className="py-4 text-secondary">{none}</p>;
  }
  const press = (e: KeyboardEvent<HTMLLIElement>, f: Finding, i: number) => {
    if (e.target !== e.currentTarget || e.ctrlKey || e.metaKey || e.altKey) {
      return;
    }
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    const repair = mayEdit ? f.repairs?.[Number(e.key) - 1] : undefined;
    const place = f.subjects[0];
    if (step) {
      e.preventDefault();
      (list.current?.children[i + step] as HTMLElement | undefined)?.focus();
    } else if (repair) {
      e.preventDefault();
      e.stopPropagation();
      e.nativeEvent.stopImmediatePropagation(); // digits go to stages elsewhere
      choose(f.id, chosen[f.id]?.label === repair.label ? undefined : repair);
    } else if (e.key === "Enter" && place) {
      navigate(placeOf(at, place, f.code));
    }
  };
  return (
    <ul ref={list}>
      {findings.map((f, i) => (
        <li
          key={f.id}
          data-finding={f.id}
          data-look={lookAt({ kind: "finding", id: f.id })}
          // biome-ignore lint/a11y/noNoninteractiveTabindex: arrows move through the list
          tabIndex={0}
          onKeyDown={(e) => press(e, f, i)}
          // Of 1,000 findings the browser lays out those in sight.
          className="[content-visibility:auto] [contain-intrinsic-size:auto_110px] border-b border-base-300 py-2 grid grid-cols-[90px_minmax(0,1fr)] gap-x-3"
        >
          <FindingItem at={at} finding={f} all={findings} />
        </li>
      ))}
    </ul>
  );
}

/** Of a long list of places the first few are enough to start with. */
const FEW = 6;

function FindingItem({ at, finding: f, all: others }: { at: Place; finding: Finding; all: Finding[] }) {
  const [all, setAll] = useState(false);
  const { chosen, choose } = useChosen();
  const mayEdit = useMayEdit(at);
  const alike = others.filter(
    (o) =>
      o.id !== f.id &&
      o.code === f.code &&
      !chosen[o.id] &&
      o.repairs?.some((r) => r.action === chosen[f.id]?.action),
  );
  const places = all ? f.subjects : f.subjects.slice(0, FEW);
  return (
    <>
      <Mark severity={f.severity} />
      <div>
        <p className="font-semibold">{f.title}</p>
        <p>
          {f.why} <span className="text-secondary">{f.fix}</span>
        </p>
        {f.evidence && f.evidence.length > 0 && f.severity !== "note" ? (
          <ul className="font-mono text-xs text-secondary my-1">
            {f.evidence.slice(0, 8).map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ul>
        ) : null}
        <p className="flex flex-wrap gap-x-4 text-[13px]">
          {places.map((s) => (
            <Link key={nameOf(s)} className="link link-primary font-mono" to={placeOf(at, s, f.code)}>
              {nameOf(s)}
            </Link>
          ))}
          {f.subjects.length > FEW ? (
            <button type="button" className="link" onClick={() => setAll(!all)}>
              {all ? "fewer" : `and ${f.subjects.length - FEW} more`}
            </button>
          ) : null}
        </p>
        {mayEdit && f.repairs && f.repairs.length > 0 ? (
          <p className="flex flex-wrap gap-2 mt-1.5">
            {f.repairs.map((r, n) => (
              <button
                key={r.label}
                type="button"
                className={`btn btn-xs font-normal h-auto py-0.5 text-left whitespace-normal max-w-full justify-start ${chosen[f.id]?.label === r.label ? "bg-base-content text-base-100" : ""}`}
                aria-pressed={chosen[f.id]?.label === r.label}
                onClick={() => choose(f.id, chosen[f.id]?.label === r.label ? undefined : r)}
              >
                <span className="opacity-70">{n + 1}</span> {r.label}
              </button>
            ))}
            {chosen[f.id] && alike.length > 0 ? (
              <button
                type="button"
                className="link text-xs"
                onClick={() => {
                  for (const other of alike) {
                    choose(
                      other.id,
                      other.repairs?.find((r) => r.action === chosen[f.id]?.action),
                    );
                  }
                }}
              >
                the same way for {alike.length} more of this kind
              </button>
            ) : null}
          </p>
        ) : null}
      </div>
    </>
  );
}
