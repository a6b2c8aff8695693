import type { Link, Site, Subnet } from "../../api/client";

/** A Form holds what was typed, as it was typed; only saving makes values of it. */
export type Form = {
  site: Record<string, string>;
  links: Record<string, string>[];
  subnets: Record<string, string>[];
};

type Kind = "text" | "number" | "list" | "yes" | "choice";
export type FieldOf = {
  name: string;
  label: string;
  kind: Kind;
  width: string;
  choices?: string[];
  hint?: string;
};

export const linkFields: FieldOf[] = [
  { name: "key", label: "Link key", kind: "text", width: "w-28" },
  {
    name: "reach",
    label: "Reach",
    kind: "choice",
    width: "w-28",
    choices: ["static", "dynamic", "forwarded", "nat"],
  },
  { name: "addresses", label: "Addresses", kind: "list", width: "w-52", hint: "203.0.113.14" },
  { name: "hostname", label: "Host name", kind: "text", width: "w-44" },
  { name: "outside", label: "Outside address", kind: "text", width: "w-36" },
  { name: "provider", label: "Provider", kind: "text", width: "w-36" },
  { name: "underlay", label: "Underlay", kind: "text", width: "w-24", hint: "internet" },
  { name: "rank", label: "Rank", kind: "number", width: "w-14" },
  { name: "weight", label: "Weight", kind: "number", width: "w-16" },
  { name: "down_mbps", label: "Down Mbit/s", kind: "number", width: "w-24" },
  { name: "up_mbps", label: "Up Mbit/s", kind: "number", width: "w-20" },
  { name: "mtu", label: "MTU", kind: "number", width: "w-14", hint: "1500" },
  { name: "shared_fate", label: "Shared fate", kind: "list", width: "w-28", hint: "duct-4" },
  { name: "availability", label: "Availability %", kind: "number", width: "w-22" },
  { name: "latency_ms", label: "Latency ms", kind: "number", width: "w-18" },
  { name: "jitter_ms", label: "Jitter ms", kind: "number", width: "w-16" },
  { name: "loss_percent", label: "Loss %", kind: "number", width: "w-14" },
  { name: "device", label: "Device", kind: "text", width: "w-16", hint: "eth0" },
  { name: "next_hop", label: "Next hop", kind: "list", width: "w-32" },
  { name: "metered", label: "Metered", kind: "yes", width: "w-16" },
  { name: "zones", label: "Only for zones", kind: "list", width: "w-24", hint: "control" },
  { name: "no_tunnels", label: "No tunnels", kind: "yes", width: "w-20" },
];

export const subnetFields: FieldOf[] = [
  { name: "prefix", label: "Prefix", kind: "text", width: "w-52", hint: "10.16.4.0/24" },
  { name: "zone", label: "Zone", kind: "text", width: "w-28", hint: "control" },
  { name: "name", label: "Name", kind: "text", width: "w-40" },
  { name: "share", label: "Shared into", kind: "list", width: "w-36" },
  { name: "map", label: "1:1 mapped to", kind: "text", width: "w-52" },
];

export const siteFields: FieldOf[] = [
  { name: "key", label: "Site key", kind: "text", width: "w-40", hint: "tarnhollow" },
  { name: "name", label: "Name", kind: "text", width: "w-64" },
  { name: "region", label: "Region", kind: "text", width: "w-28" },
  { name: "demand_mbps", label: "Demand Mbit/s", kind: "number", width: "w-28" },
];

export const gatewayFields: FieldOf[] = [
  { name: "placement", label: "Gateway", kind: "choice", width: "w-28", choices: ["inline", "one-armed"] },
  { name: "lan_address", label: "LAN address", kind: "text", width: "w-36" },
  { name: "upstream", label: "LAN's router", kind: "text", width: "w-36" },
  { name: "lan_address6", label: "LAN address, IPv6", kind: "text", width: "w-36" },
  { name: "upstream6", label: "LAN's router, IPv6", kind: "text", width: "w-36" },
  { name: "lan_device", label: "LAN device", kind: "text", width: "w-24", hint: "lan0" },
  { name: "switches", label: "Switches by itself", kind: "yes", width: "w-24" },
  { name: "max_tunnels", label: "Most tunnels", kind: "number", width: "w-24" },
  { name: "throughput_mbps", label: "Throughput Mbit/s", kind: "number", width: "w-32" },
  { name: "listen_port", label: "First UDP port", kind: "number", width: "w-28", hint: "51820" },
  { name: "public_key", label: "Public key, if the gateway made its own", kind: "text", width: "w-96" },
];

type Part = Record<string, unknown>;

const typed = (part: Part, fields: FieldOf[]) =>
  Object.fromEntries(
    fields.map((f) => {
      const value = part[f.name];
      return [
        f.name,
        Array.isArray(value) ? value.join(" ") : value === undefined || value === false ? "" : String(value),
      ];
    }),
  );

export function formOf(site?: Site): Form {
  return {
    site: {
      ...typed((site ?? {}) as Part, siteFields),
      ...typed((site?.gateway ?? {}) as Part, gatewayFields),
    },
    // Renamed, a link is still the one it was.
    links: (site?.links ?? []).map((l) => ({ ...typed(l as Part, linkFields), was: l.key })),
    subnets: (site?.subnets ?? []).map((n) => typed(n as Part, subnetFields)),
  };
}

/** Lays what was typed over the part as it was; fields the form does not show stay. */
function valued<T>(was: T | undefined, form: Record<string, string>, fields: FieldOf[]): T {
  const out: Part = { ...(was as Part) };
  for (const f of fields) {
    const text = (form[f.name] ?? "").trim();
    delete out[f.name];
    if (text === "") {
      continue;
    }
    if (f.kind === "number") {
      // What is no number goes to the server as it is, which says so at its field.
      const n = Number(text.replace(",", "."));
      out[f.name] = Number.isFinite(n) ? n : text;
    } else if (f.kind === "list") {
      out[f.name] = text.split(/[\s,;]+/);
    } else if (f.kind === "yes") {
      out[f.name] = true;
    } else {
      out[f.name] = text;
    }
  }
  return out as T;
}

export function siteOf(was: Site | undefined, form: Form): Site {
  const site = valued<Site>(was, form.site, siteFields);
  const gateway = valued(was?.gateway, form.site, gatewayFields);
  const byKey = new Map((was?.links ?? []).map((l) => [l.key, l]));
  return {
    ...site,
    key: site.key ?? "",
    name: site.name ?? site.key ?? "",
    gateway,
    links: form.links.map((l) => ({
      ...valued<Link>(byKey.get(l.was ?? ""), l, linkFields),
      key: l.key ?? "",
    })),
    subnets: form.subnets.map((n) => ({
      ...valued<Subnet>(undefined, n, subnetFields),
      prefix: n.prefix ?? "",
    })),
  };
}
