import { useState } from "react";
import { Link } from "react-router";
import type { Finding, Subject } from "../api/client";
import { type Place, pageOf } from "../api/place";
import { useMayEdit, useRepair } from "../api/queries";
import { Mark } from "./mark";
import { Trouble } from "./trouble";

/** The address of the place where a subject is mended. */
export function placeOf(at: Place, s: Subject): string {
  if (s.site) {
    const params = new URLSearchParams({ site: s.site });
    if (s.link) {
      params.set("link", s.link);
    } else if (s.prefix) {
      params.set("prefix", s.prefix);
    }
    return `${pageOf(at)}/survey?${params}`;
  }
  return `${pageOf(at)}/shape?overlay=${s.overlay ?? ""}`;
}

const nameOf = (s: Subject) =>
  s.site ? [s.site, s.link, s.link ? "" : s.prefix].filter(Boolean).join(" ") : `overlay ${s.overlay}`;

/** FindingList shows findings with their evidence, their place and the repairs that can be applied. */
export function FindingList({ at, findings, none }: { at: Place; findings: Finding[]; none: string }) {
  if (findings.length === 0) {
    return <p className="py-4 text-secondary">{none}</p>;
  }
  return (
    <ul>
      {findings.map((f) => (
        <FindingItem key={f.id} at={at} finding={f} />
      ))}
    </ul>
  );
}

/** Of a long list of places the first few are enough to start with. */
const FEW = 6;

function FindingItem({ at, finding: f }: { at: Place; finding: Finding }) {
  const [all, setAll] = useState(false);
  const repair = useRepair(at);
  const mayEdit = useMayEdit(at);
  const places = all ? f.subjects : f.subjects.slice(0, FEW);
  return (
    <li className="border-b border-base-300 py-2 grid grid-cols-[90px_minmax(0,1fr)] gap-x-3">
      <Mark severity={f.severity} />
      <div>
        <p className="font-semibold">{f.title}</p>
        <p>
          {f.why} <span className="text-secondary">{f.mend}</span>
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
            <Link key={nameOf(s)} className="link link-primary font-mono" to={placeOf(at, s)}>
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
            {f.repairs.map((r) => (
              <button
                key={r.label}
                type="button"
                className="btn btn-xs font-normal"
                disabled={repair.isPending}
                onClick={() => repair.mutate(r)}
              >
                {r.label}
              </button>
            ))}
          </p>
        ) : null}
        <Trouble error={repair.error} />
      </div>
    </li>
  );
}
