/** What the inspector looks at. In the address it is one word, "look". */
export type Look =
  | { kind: "site"; site: string }
  | { kind: "tunnel"; overlay: string; tunnel: string }
  | { kind: "subnet"; site: string; prefix: string }
  | { kind: "finding"; id: string };

/** Writes down what is to be looked at, for data-look and for the address. */
export function lookAt(look: Look): string {
  switch (look.kind) {
    case "site":
      return look.site;
    case "tunnel":
      return `tunnel:${look.overlay}:${look.tunnel}`;
    case "subnet":
      return `subnet:${look.site}:${look.prefix}`;
    case "finding":
      return `finding:${look.id}`;
  }
}

/** Reads it again. Keys of sites hold no colon, so a bare word is a site. */
export function lookOf(text: string): Look | undefined {
  const [kind, first = "", ...rest] = text.split(":");
  switch (kind) {
    case "":
      return undefined;
    case "tunnel":
      return { kind, overlay: first, tunnel: rest.join(":") };
    case "subnet":
      return { kind, site: first, prefix: rest.join(":") };
    case "finding":
      return { kind, id: [first, ...rest].join(":") };
    default:
      return { kind: "site", site: text };
  }
}
