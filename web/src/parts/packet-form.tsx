import { useState } from "react";
import { Field } from "./field";

/** What a packet is asked about by; as it stands in an address. */
export interface PacketEntries {
  from: string;
  to: string;
  protocol: string;
  port: string;
}

/** PacketForm asks for a packet: two ends, a protocol and a port. What is empty is not told. */
export function PacketForm(props: {
  asked: Partial<PacketEntries>;
  ends: [from: string, to: string];
  /** Of the first protocol; the three follow it. */
  any?: string;
  refused: Record<string, string>;
  words: string;
  onAsk: (entries: [string, string][]) => void;
}) {
  const first = props.any === undefined ? "icmp" : "";
  const [form, setForm] = useState<PacketEntries>({
    from: "",
    to: "",
    protocol: first,
    port: "",
    ...props.asked,
  });
  const error = (name: string) => props.refused[`query.${name}`] ?? props.refused[name];
  const input = (name: "from" | "to" | "port", hint: string) => (aria: object) => (
    <input
      {...aria}
      className="cell font-mono"
      placeholder={hint}
      value={form[name]}
      onChange={(e) => setForm({ ...form, [name]: e.target.value })}
    />
  );
  return (
    <form
      className="flex flex-wrap gap-3 items-start mb-3"
      onSubmit={(e) => {
        e.preventDefault();
        props.onAsk(
          Object.entries(form)
            .map(([name, value]): [string, string] => [name, value.trim()])
            .filter(([, value]) => value),
        );
      }}
    >
      <div className="w-56">
        <Field label={props.ends[0]} error={error("from")}>
          {input("from", "10.20.8.9")}
        </Field>
      </div>
      <div className="w-56">
        <Field label={props.ends[1]} error={error("to")}>
          {input("to", "10.16.4.1")}
        </Field>
      </div>
      <div className="w-28">
        <Field label="Protocol">
          {(aria) => (
            <select
              {...aria}
              className="cell"
              value={form.protocol}
              onChange={(e) => setForm({ ...form, protocol: e.target.value })}
            >
              {props.any === undefined ? null : <option value="">{props.any}</option>}
              <option>icmp</option>
              <option>tcp</option>
              <option>udp</option>
            </select>
          )}
        </Field>
      </div>
      <div className="w-20">
        <Field label="Port" error={error("port")}>
          {input("port", "443")}
        </Field>
      </div>
      <button type="submit" className="btn btn-sm btn-primary mt-4" disabled={!form.from || !form.to}>
        {props.words}
      </button>
      <button
        type="button"
        className="btn btn-sm mt-4"
        onClick={() => setForm({ ...form, from: form.to, to: form.from })}
      >
        Swap ends
      </button>
    </form>
  );
}
