import { type ReactNode, useState } from "react";
import type { BareFinding, Consequences } from "../api/client";
import { Mark } from "./mark";
import { count, many } from "./number";

/** Changes lists what a change does, and to whom. */
export function Changes({ changes: c }: { changes: Consequences }) {
  const parts = [
    ...c.sites.added.map((n) => ({ name: n, what: ["new site"] })),
    ...c.sites.removed.map((n) => ({ name: n, what: ["site removed"] })),
    ...c.sites.changed,
    ...c.overlays.added.map((n) => ({ name: `overlay ${n}`, what: ["new overlay"] })),
    ...c.overlays.removed.map((n) => ({ name: `overlay ${n}`, what: ["overlay removed"] })),
    ...c.overlays.changed.map((o) => ({ name: `overlay ${o.name}`, what: o.what })),
  ];
  const nothing =
    parts.length + c.moved + c.findings_new.length + c.findings_gone.length + c.cut_pairs === 0 &&
    c.tunnels.added.length + c.tunnels.removed.length + c.tunnels.changed.length === 0;
  if (nothing) {
    return <p className="py-3">The two are the same.</p>;
  }
  return (
    <>
      {c.cut_pairs > 0 ? (
        <Group title="Cut" count={c.cut_pairs} of="pairs of sites that can reach each other no more" alarm>
          {c.cut_off.length > 0 ? (
            <p className="font-semibold">Cut off from everybody: {c.cut_off.join(", ")}</p>
          ) : null}
          <Lines all={c.cut.map((p) => `${p.a} — ${p.b}`)} total={c.cut_pairs} />
        </Group>
      ) : null}
      <Group title="Edited" count={parts.length} of="sites and overlays">
        <ul>
          {parts.slice(0, 100).map((p) => (
            <li key={p.name} className="grid grid-cols-[14rem_minmax(0,1fr)] gap-x-3 py-0.5">
              <span className="font-mono truncate" title={p.name}>
                {p.name}
              </span>
              <span className="break-words">{p.what.join("; ")}</span>
            </li>
          ))}
        </ul>
        {parts.length > 100 ? <p className="text-secondary">and {parts.length - 100} more</p> : null}
      </Group>
      <Group
        title="Tunnels"
        count={c.tunnels.added.length + c.tunnels.removed.length + c.tunnels.changed.length}
        of={`(${c.tunnels.added.length} new, ${c.tunnels.removed.length} gone, ${c.tunnels.changed.length} changed)`}
      >
        <Lines
          all={[
            ...c.tunnels.added.map((t) => `+ ${t}`),
            ...c.tunnels.removed.map((t) => `− ${t}`),
            ...c.tunnels.changed.map((t) => `~ ${t.name}: ${t.what.join("; ")}`),
          ]}
        />
      </Group>
      <Group title="Routes that move" count={c.moved} of={`at ${many(c.moved_at, "site")}`}>
        <table className="ruled text-[13px]">
          <thead>
            <tr>
              <th>Site</th>
              <th>Prefix</th>
              <th>Carried before</th>
              <th>and now</th>
              <th>because</th>
            </tr>
          </thead>
          <tbody>
            {c.moves.map((m) => (
              <tr key={`${m.site} ${m.prefix}`}>
                <td className="font-mono">{m.site}</td>
                <td className="font-mono">{m.prefix}</td>
                <td className="font-mono text-xs">{m.from || "—"}</td>
                <td className="font-mono text-xs">{m.to || "—"}</td>
                <td>{m.why}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {c.moved > c.moves.length ? (
          <p className="text-secondary">
            The first {c.moves.length} of {c.moved}.
          </p>
        ) : null}
      </Group>
      <Findings title="New findings" list={c.findings_new} />
      <Findings title="Findings gone" list={c.findings_gone} />
    </>
  );
}

function Group(props: { title: string; count: number; of: string; alarm?: boolean; children: ReactNode }) {
  if (props.count === 0) {
    return null;
  }
  return (
    <details className="border-t border-base-300 py-2" open={props.count <= 30 || props.alarm}>
      <summary className="cursor-pointer">
        <span className={`font-serif font-semibold text-base ${props.alarm ? "text-error" : ""}`}>
          {props.alarm ? "■ " : ""}
          {props.title}
        </span>{" "}
        <span className="text-secondary">
          {count(props.count)} {props.of}
        </span>
      </summary>
      <div className="pt-1 pl-4">{props.children}</div>
    </details>
  );
}

function Lines({ all, total }: { all: string[]; total?: number }) {
  const [more, setMore] = useState(false);
  const shown = more ? all : all.slice(0, 40);
  const rest = (total ?? all.length) - shown.length;
  return (
    <>
      <ul className="font-mono text-[13px]">
        {shown.map((line) => (
          <li key={line} className="break-words">
            {line}
          </li>
        ))}
      </ul>
      {rest > 0 && shown.length < all.length ? (
        <button type="button" className="link text-[13px]" onClick={() => setMore(true)}>
          {rest} more
        </button>
      ) : rest > 0 ? (
        <p className="text-secondary text-[13px]">and {rest} more</p>
      ) : null}
    </>
  );
}

function Findings({ title, list }: { title: string; list: BareFinding[] }) {
  return (
    <Group title={title} count={list.length} of="">
      <ul>
        {list.map((f) => (
          <li key={f.id} className="grid grid-cols-[90px_minmax(0,1fr)] gap-x-3 py-0.5">
            <Mark severity={f.severity} />
            <span>{f.title}</span>
          </li>
        ))}
      </ul>
    </Group>
  );
}
