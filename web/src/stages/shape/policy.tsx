import { ArrowDown, ArrowUp, X } from "lucide-react";
import { useState } from "react";
import { useParams } from "react-router";
import type { LedgerSite, Overlay, Pin, Rule, ShapedOverlay } from "../../api/client";
import { useEstate, useFindings } from "../../api/queries";
import { Mark } from "../../parts/mark";
import { Settled } from "../../parts/settled";

type Change = (part: Partial<Overlay>) => void;

/** What a side of a rule is, as it is typed: a zone, a site or a prefix. */
const sideOf = (p?: Rule["from"]) =>
  [p?.zone, p?.site && `site:${p.site}`, p?.prefix].filter(Boolean).join(" ");

/** Reads a side: words are zones, site:KEY is a site, what has a / is a prefix. */
function partyOf(text: string): Rule["from"] {
  const party: NonNullable<Rule["from"]> = {};
  for (const word of text.trim().split(/\s+/).filter(Boolean)) {
    if (word.startsWith("site:")) {
      party.site = word.slice(5);
    } else if (word.includes("/")) {
      party.prefix = word;
    } else {
      party.zone = word;
    }
  }
  return Object.keys(party).length > 0 ? party : undefined;
}

/** PolicyAndPins edits who may reach whom, first match deciding, and what is pinned against the costs. */
export function PolicyAndPins(props: { overlay: ShapedOverlay; sites: LedgerSite[]; onChange: Change }) {
  return (
    <div className="overflow-auto h-full space-y-6 pr-1">
      <About overlay={props.overlay} />
      <Rules overlay={props.overlay} onChange={props.onChange} />
      <Pins {...props} />
    </div>
  );
}

/** The findings about this overlay's policy and pins, beside where they are fixed. */
function About({ overlay }: { overlay: ShapedOverlay }) {
  const { estate = "", draft = "" } = useParams();
  const findings = useFindings({ estate, draft }).data ?? [];
  const about = findings.filter(
    (f) =>
      /^(policy|path|breakout)\//.test(f.code) &&
      f.subjects.some((s) => s.overlay === overlay.key && !s.link),
  );
  return about.length === 0 ? null : (
    <ul aria-label="Findings about policy and pins">
      {about.map((f) => (
        <li key={f.id} className="grid grid-cols-[90px_minmax(0,1fr)] gap-x-3 py-0.5">
          <Mark severity={f.severity} />
          <span>
            {f.title}. <span className="text-secondary">{f.fix}</span>
          </span>
        </li>
      ))}
    </ul>
  );
}

function Rules({ overlay, onChange }: { overlay: ShapedOverlay; onChange: Change }) {
  const rules = overlay.policy?.rules ?? [];
  const otherwise = overlay.policy?.default ?? "permit";
  const set = (next: Rule[], by = otherwise) =>
    onChange({
      policy: next.length === 0 && by === "permit" ? undefined : { default: by, rules: next },
    });
  const move = (i: number, by: number) => {
    const next = [...rules];
    const [rule] = next.splice(i, 1);
    next.splice(i + by, 0, rule as Rule);
    set(next);
  };
  const replace = (i: number, part: Partial<Rule>) =>
    set(rules.map((r, n) => (n === i ? { ...r, ...part } : r)));
  return (
    <section aria-label="Policy">
      <h2 className="text-lg">Policy, first match decides</h2>
      <p className="text-[13px] text-secondary">
        A side is a zone, site:KEY, a prefix, or several of them together; empty is everything.
      </p>
      <table className="ruled text-[13px]">
        <thead>
          <tr>
            <th className="num">No.</th>
            <th>Action</th>
            <th>From</th>
            <th>To</th>
            <th>Protocol</th>
            <th>Ports</th>
            <th>
              <span className="sr-only">Order</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rules.map((r, i) => (
            <RuleRow
              // biome-ignore lint/suspicious/noArrayIndexKey: a rule is known by its place
              key={`${i} ${JSON.stringify(r)}`}
              rule={r}
              number={i + 1}
              last={i === rules.length - 1}
              onReplace={(part) => replace(i, part)}
              onMove={(by) => move(i, by)}
              onDelete={() => set(rules.filter((_, n) => n !== i))}
            />
          ))}
        </tbody>
      </table>
      <div className="flex gap-4 items-center mt-2">
        <button
          type="button"
          className="btn btn-xs"
          onClick={() => set([...rules, { action: "permit", from: partyOf("") }])}
        >
          Add a rule
        </button>
        <label className="flex gap-2 items-center">
          What no rule matches:
          <select className="cell w-28" value={otherwise} onChange={(e) => set(rules, e.target.value)}>
            <option>permit</option>
            <option>deny</option>
          </select>
        </label>
      </div>
    </section>
  );
}

/** RuleRow edits one rule of a policy. */
function RuleRow(props: {
  rule: Rule;
  number: number;
  last: boolean;
  onReplace: (part: Partial<Rule>) => void;
  onMove: (by: -1 | 1) => void;
  onDelete: () => void;
}) {
  const { rule: r, number: n } = props;
  return (
    <tr>
      <td className="num">{n}</td>
      <td>
        <select
          className="cell min-w-22"
          aria-label={`Action of rule ${n}`}
          value={r.action}
          onChange={(e) => props.onReplace({ action: e.target.value })}
        >
          <option>permit</option>
          <option>deny</option>
        </select>
      </td>
      {(["from", "to"] as const).map((side) => (
        <td key={side}>
          <Cell
            label={`Rule ${n} ${side}`}
            value={sideOf(r[side])}
            onSet={(text) => props.onReplace({ [side]: partyOf(text) })}
          />
        </td>
      ))}
      <td>
        <select
          className="cell min-w-18"
          aria-label={`Protocol of rule ${n}`}
          value={r.protocol && r.protocol !== "any" ? r.protocol : "any"}
          onChange={(e) =>
            props.onReplace({
              protocol: e.target.value === "any" ? undefined : e.target.value,
              ports: ["tcp", "udp"].includes(e.target.value) ? r.ports : undefined,
            })
          }
        >
          {["any", "tcp", "udp", "icmp"].map((p) => (
            <option key={p}>{p}</option>
          ))}
        </select>
      </td>
      <td>
        <Cell
          label={`Ports of rule ${n}`}
          value={(r.ports ?? []).join(" ")}
          onSet={(text) => {
            const ports = text.split(/[\s,;]+/).filter(Boolean);
            props.onReplace({ ports: ports.length > 0 ? ports : undefined });
          }}
        />
      </td>
      <td className="whitespace-nowrap text-right">
        <button
          type="button"
          className="btn btn-xs btn-square"
          aria-label={`Move rule ${n} up`}
          disabled={n === 1}
          onClick={() => props.onMove(-1)}
        >
          <ArrowUp size={12} />
        </button>
        <button
          type="button"
          className="btn btn-xs btn-square"
          aria-label={`Move rule ${n} down`}
          disabled={props.last}
          onClick={() => props.onMove(1)}
        >
          <ArrowDown size={12} />
        </button>
        <button
          type="button"
          className="btn btn-xs btn-square"
          aria-label={`Delete rule ${n}`}
          onClick={props.onDelete}
        >
          <X size={12} />
        </button>
      </td>
    </tr>
  );
}

/** A cell that is an edit when it is left, or with Enter. */
function Cell(props: { label: string; value: string; onSet: (text: string) => void }) {
  return (
    <Settled
      className="cell font-mono"
      aria-label={props.label}
      value={props.value}
      placeholder="everything"
      onSettle={props.onSet}
    />
  );
}

function Pins({
  overlay,
  sites,
  onChange,
}: {
  overlay: ShapedOverlay;
  sites: LedgerSite[];
  onChange: Change;
}) {
  const { estate = "", draft = "" } = useParams();
  const head = useEstate({ estate, draft }).data;
  const pins = overlay.pins ?? [];
  const [fresh, setFresh] = useState<Pin>({ site: "", via: "" });
  const members = overlay.members.map((m) => m.site);
  const set = (next: Pin[]) => onChange({ pins: next.length > 0 ? next : undefined });
  const choice = (label: string, name: "site" | "via", keys: string[]) => (
    <label className="text-xs text-secondary">
      {label}
      <select
        className="cell text-base-content"
        value={fresh[name]}
        onChange={(e) => setFresh({ ...fresh, [name]: e.target.value })}
      >
        <option value="">choose …</option>
        {keys.map((k) => (
          <option key={k} value={k}>
            {sites.find((s) => s.key === k)?.name ?? k}
          </option>
        ))}
      </select>
    </label>
  );
  return (
    <section aria-label="Pins">
      <h2 className="text-lg">Pinned against the costs</h2>
      <p className="text-[13px] text-secondary">
        A pin makes one site send by a neighbour that the costs would not choose. The other side does not
        follow, so replies may come back another way.
      </p>
      <ul>
        {pins.map((p, i) => (
          <li
            key={`${p.site} ${p.via} ${p.prefix}`}
            className="flex gap-2 items-center border-b border-base-300 py-0.5 text-[13px]"
          >
            <span className="grow">
              <span className="font-mono">{p.site}</span> sends {p.prefix ? `to ${p.prefix}` : "everything"}{" "}
              by <span className="font-mono">{p.via}</span>
            </span>
            <button
              type="button"
              className="btn btn-xs"
              aria-label={`Remove the pin of ${p.site}`}
              onClick={() => set(pins.filter((_, n) => n !== i))}
            >
              Remove
            </button>
          </li>
        ))}
      </ul>
      {head ? (
        <form
          className="flex gap-2 items-end mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            set([...pins, { ...fresh, prefix: fresh.prefix || undefined }]);
            setFresh({ site: "", via: "" });
          }}
        >
          {choice("Site", "site", members)}
          {choice("sends by", "via", overlay.hubs ?? [])}
          <label className="text-xs text-secondary">
            to prefix, or everything
            <input
              className="cell text-base-content font-mono"
              value={fresh.prefix ?? ""}
              onChange={(e) => setFresh({ ...fresh, prefix: e.target.value })}
            />
          </label>
          <button type="submit" className="btn btn-xs mb-1" disabled={!fresh.site || !fresh.via}>
            Pin
          </button>
        </form>
      ) : null}
    </section>
  );
}
