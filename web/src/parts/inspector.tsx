import { X } from "lucide-react";
import { type PointerEvent, type ReactNode, useState } from "react";
import { Link } from "react-router";
import type { Finding } from "../api/client";
import { useBothEnds } from "../api/paths";
import { type Place, pageOf } from "../api/place";
import { useFindings, useSites } from "../api/queries";
import { useAddress } from "./address";
import { placeOf } from "./findings";
import { LinkBars } from "./link-bars";
import { type Look, lookAt, lookOf } from "./look";
import { Mark } from "./mark";
import { many } from "./number";
import { usePress, within } from "./press";
import { shareText } from "./share";
import { Trouble } from "./trouble";
import { Waiting } from "./waiting";

const NARROW = 240;
const WIDE = 640;

/**
 * Inspector shows the site, tunnel, subnet or finding that is looked at, with
 * its places in the stages. Its left edge is dragged, or moved with the arrows.
 */
export function Inspector({ at }: { at: Place }) {
  const [params, set] = useAddress();
  const look = lookOf(params.get("look") ?? "");
  const [width, setWidth] = useState(300);
  const close = () => set({ look: "" });
  // "i" looks at what the focus is in.
  usePress((e) => {
    const on = e.target instanceof HTMLElement ? e.target : undefined;
    const held = on?.closest<HTMLElement>("[data-look], [data-site]")?.dataset;
    const look = held?.look ?? held?.site;
    if (e.key === "i" && look && !within(e) && !e.ctrlKey && !e.metaKey) {
      set({ look });
    }
  });
  if (!look) {
    return null;
  }
  const resize = (w: number) => setWidth(Math.min(WIDE, Math.max(NARROW, w)));
  const drag = (e: PointerEvent<HTMLHRElement>) => {
    e.currentTarget.setPointerCapture(e.pointerId);
    if (e.buttons === 1) {
      resize(innerWidth - e.clientX);
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
        onKeyDown={(e) => resize(width + ({ ArrowLeft: 20, ArrowRight: -20 }[e.key] ?? 0))}
      />
      <button
        type="button"
        className="btn btn-xs btn-square float-right ml-2"
        aria-label="Close the inspector"
        onClick={close}
      >
        <X size={12} />
      </button>
      <Looked at={at} look={look} />
    </aside>
  );
}

function Looked({ at, look }: { at: Place; look: Look }) {
  switch (look.kind) {
    case "site":
      return <SiteLook at={at} site={look.site} />;
    case "tunnel":
      return <TunnelLook at={at} overlay={look.overlay} tunnel={look.tunnel} />;
    case "subnet":
      return <SubnetLook at={at} site={look.site} prefix={look.prefix} />;
    case "finding":
      return <FindingLook at={at} id={look.id} />;
  }
}

function Title({ children }: { children: string }) {
  return (
    <h2 className="text-base min-w-0 break-words line-clamp-3" title={children}>
      {children}
    </h2>
  );
}

function Places({ children }: { children: ReactNode }) {
  return (
    <nav aria-label="Open in" className="flex flex-wrap gap-x-3 py-2">
      {children}
    </nav>
  );
}

function To({ to, children }: { to: string; children: ReactNode }) {
  return (
    <Link className="link link-primary" to={to}>
      {children}
    </Link>
  );
}

function About({ at, findings, none }: { at: Place; findings: Finding[]; none: string }) {
  return (
    <>
      <h3 className="text-sm mt-2">Findings</h3>
      {findings.length === 0 ? <p className="text-secondary">{none}</p> : null}
      <ul>
        {findings.map((f) => (
          <li key={f.id} className="py-0.5" data-look={lookAt({ kind: "finding", id: f.id })}>
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
  );
}

function SiteLook({ at, site: key }: { at: Place; site: string }) {
  const sites = useSites(at).data;
  const findings = useFindings(at).data ?? [];
  const site = sites?.find((s) => s.key === key);
  if (!sites) {
    return <Waiting what="the site" />;
  }
  if (!site) {
    return <p>There is no site {key} in this draft.</p>;
  }
  const page = pageOf(at);
  return (
    <>
      <Title>{site.name}</Title>
      <p className="text-secondary">
        <span className="font-mono">{site.key}</span>, {site.region || "no region"}, {site.demand_mbps ?? 0}{" "}
        Mbit/s wanted
      </p>
      <Places>
        <To to={`${page}/survey?site=${key}`}>Edit</To>
        <To to={`${page}/shape`}>Shape</To>
        <To to={`${page}/paths/${key}`}>{many(site.tunnels, "tunnel")}</To>
        <To to={`${page}/paths/${key}?view=routes`}>Routes</To>
        <To to={`${page}/paths/${key}?view=changes`}>What changes</To>
      </Places>
      <h3 className="text-sm">WAN links</h3>
      <LinkBars links={site.links ?? []} />
      <h3 className="text-sm mt-2">Subnets</h3>
      <ul>
        {(site.subnets ?? []).map((n) => (
          <li
            key={n.prefix}
            className="flex flex-wrap gap-x-2"
            data-look={lookAt({ kind: "subnet", site: key, prefix: n.prefix })}
          >
            <Link
              className="link link-hover font-mono"
              to={`${page}/addresses?${new URLSearchParams({ prefix: n.prefix, site: key })}`}
            >
              {n.prefix}
            </Link>
            <span className="text-secondary">{n.zone}</span>
          </li>
        ))}
      </ul>
      <About
        at={at}
        findings={findings.filter((f) => f.subjects.some((s) => s.site === key))}
        none="No findings for this site."
      />
    </>
  );
}

function TunnelLook({ at, overlay, tunnel }: { at: Place; overlay: string; tunnel: string }) {
  const { data: s, error } = useBothEnds(at, overlay, tunnel);
  const page = pageOf(at);
  if (!s) {
    return error ? <Trouble error={error} /> : <Waiting what="the tunnel" />;
  }
  return (
    <>
      <Title>{`${s.a} — ${s.b}`}</Title>
      <p className="text-secondary">
        {s.overlay}, choice {s.rank} of {s.of} between the two
        {s.share ? `, for ${shareText(s.share)} of the flows` : ""}
      </p>
      <Places>
        <To to={`${page}/paths/-/tunnel?${new URLSearchParams({ overlay, tunnel })}`}>Both ends</To>
        <To to={`${page}/shape?${new URLSearchParams({ overlay, a: s.a, b: s.b })}`}>The pair in Shape</To>
        <To to={`${page}/paths/${s.a}`}>{s.a}</To>
        <To to={`${page}/paths/${s.b}`}>{s.b}</To>
      </Places>
      <dl>
        {s.lines.map((l) => (
          <div key={l.what} className={`border-t border-base-300 py-1 ${l.wrong ? "clash" : ""}`}>
            <dt className="text-secondary text-xs">{l.what}</dt>
            <dd className="font-mono text-xs break-all whitespace-pre-line">{l.a}</dd>
            {l.a === l.b ? null : <dd className="font-mono text-xs break-all whitespace-pre-line">{l.b}</dd>}
            {l.wrong ? <dd className="text-error text-xs">■ {l.wrong}</dd> : null}
          </div>
        ))}
      </dl>
    </>
  );
}

function SubnetLook({ at, site: key, prefix }: { at: Place; site: string; prefix: string }) {
  const sites = useSites(at).data;
  const findings = useFindings(at).data ?? [];
  const site = sites?.find((s) => s.key === key);
  const subnet = site?.subnets?.find((n) => n.prefix === prefix);
  const page = pageOf(at);
  if (!sites) {
    return <Waiting what="the subnet" />;
  }
  if (!site || !subnet) {
    return (
      <p>
        {key} has no subnet {prefix} in this draft.
      </p>
    );
  }
  const shared = subnet.share ?? [];
  return (
    <>
      <Title>{subnet.prefix}</Title>
      <p className="text-secondary">
        {[subnet.name, subnet.zone ? `zone ${subnet.zone}` : "", `at ${site.name}`]
          .filter(Boolean)
          .join(", ")}
      </p>
      <Places>
        <To to={`${page}/survey?${new URLSearchParams({ site: key, prefix })}`}>Edit</To>
        <To to={`${page}/addresses?${new URLSearchParams({ prefix, site: key })}`}>On the ruler</To>
        <To to={`${page}/paths/${key}?view=routes`}>Routes of {key}</To>
      </Places>
      <p>{shared.length > 0 ? `Shared into ${shared.join(", ")}.` : "Shared into no overlay."}</p>
      {subnet.map ? (
        <p>
          Seen from elsewhere as <span className="font-mono">{subnet.map}</span>.
        </p>
      ) : null}
      <About
        at={at}
        findings={findings.filter((f) => f.subjects.some((s) => s.site === key && s.prefix === prefix))}
        none="No findings for this subnet."
      />
    </>
  );
}

function FindingLook({ at, id }: { at: Place; id: string }) {
  const findings = useFindings(at).data;
  const f = findings?.find((f) => f.id === id);
  if (!findings) {
    return <Waiting what="the finding" />;
  }
  if (!f) {
    return <p>There is no such finding any more: it is fixed.</p>;
  }
  return (
    <>
      <Title>{f.title}</Title>
      <p>
        <Mark severity={f.severity} />
      </p>
      <Places>
        <To to={`${pageOf(at)}/findings?${new URLSearchParams({ id })}`}>Repairs, in the list</To>
      </Places>
      <p>{f.why}</p>
      <p className="text-secondary">{f.fix}</p>
      <ul className="font-mono text-xs text-secondary my-1">
        {(f.evidence ?? []).map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
      <h3 className="text-sm mt-2">Where</h3>
      <ul>
        {f.subjects.map((s) => (
          <li key={`${s.site} ${s.overlay} ${s.link} ${s.prefix}`}>
            <To to={placeOf(at, s, f.code)}>
              <span className="font-mono">
                {[s.site ?? s.overlay, s.link, s.prefix].filter(Boolean).join(" ")}
              </span>
            </To>
          </li>
        ))}
      </ul>
    </>
  );
}
