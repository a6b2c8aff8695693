import { Command } from "cmdk";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { Hit } from "../api/client";
import { type Place, pageOf } from "../api/place";
import { useFind } from "../api/queries";
import { useLate } from "./late";
import { usePress, within } from "./press";

/** Where a hit is. */
function pathOf(at: Place, hit: Hit): string {
  const to = (path: string, query: Record<string, string>) =>
    `${pageOf(at)}/${path}?${new URLSearchParams(query)}`;
  switch (hit.kind) {
    case "packet":
      return to("paths/-/follow", { from: hit.from ?? "", to: hit.to ?? "" });
    case "subnet":
      return to("addresses", { prefix: hit.prefix ?? "", site: hit.site ?? "" });
    case "site":
      return `${pageOf(at)}/paths/${hit.site}`;
    case "tunnel":
      return to("paths/-/tunnel", { overlay: hit.overlay ?? "", tunnel: hit.tunnel ?? "" });
    case "overlay":
      return to("shape", { overlay: hit.overlay ?? "" });
    default:
      return to("findings", { id: hit.id ?? "" });
  }
}

/**
 * Jump goes to anything by its name; an address finds the subnets that hold it,
 * two addresses a packet.
 */
export function Jump({ at }: { at: Place }) {
  const dialog = useRef<HTMLDialogElement>(null);
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const navigate = useNavigate();
  usePress((e) => {
    const asked = (e.key === "k" && (e.ctrlKey || e.metaKey)) || (e.key === "/" && !within(e, ", dialog"));
    if (asked && !dialog.current?.open) {
      e.preventDefault();
      setOpen(true);
      dialog.current?.showModal();
    }
  });
  const go = (hit: Hit) => {
    dialog.current?.close();
    navigate(pathOf(at, hit));
  };
  return (
    <dialog
      ref={dialog}
      aria-label="Jump"
      className="mx-auto mt-24 w-[38rem] max-w-[90vw] bg-base-100 text-base-content border border-base-content p-0"
      onClose={() => {
        setOpen(false);
        setText("");
      }}
    >
      {open ? <Choices at={at} text={text} onText={setText} onChoose={go} /> : null}
    </dialog>
  );
}

function Choices(props: {
  at: Place;
  text: string;
  onText: (text: string) => void;
  onChoose: (hit: Hit) => void;
}) {
  const found = useFind(props.at, useLate(props.text, 120));
  const hits = props.text.trim() ? (found.data ?? []) : [];
  const idOf = (hit: Hit) => `${hit.kind} ${hit.text} ${hit.detail} ${hit.site}`;
  const likeliest = hits[0] ? idOf(hits[0]) : "";
  const [on, setOn] = useState("");
  useEffect(() => setOn(likeliest), [likeliest]);
  return (
    <Command shouldFilter={false} label="Jump to" value={on} onValueChange={setOn}>
      <Command.Input
        className="w-full bg-transparent px-4 h-11 outline-none border-b border-base-300 text-base"
        placeholder="A site, subnet, tunnel, finding; an address; two addresses"
        value={props.text}
        onValueChange={props.onText}
        autoFocus
      />
      <Command.List className="max-h-96 overflow-auto py-1" aria-busy={found.isFetching}>
        {hits.map((hit) => (
          <Command.Item
            key={idOf(hit)}
            value={idOf(hit)}
            onSelect={() => props.onChoose(hit)}
            className="px-4 py-1 grid grid-cols-[4.5rem_minmax(0,1fr)] gap-2 cursor-pointer aria-selected:bg-base-300"
          >
            <span className="text-secondary">{hit.kind}</span>
            <span className="truncate">
              {hit.text} <span className="text-secondary">{hit.detail}</span>
            </span>
          </Command.Item>
        ))}
      </Command.List>
      <p className="px-4 py-2 text-xs text-secondary border-t border-base-300">
        {props.text.trim() && hits.length === 0 && !found.isFetching
          ? "Nothing of that name or address is in this draft."
          : "↑ ↓ choose, Enter goes there, Esc closes"}
      </p>
    </Command>
  );
}
