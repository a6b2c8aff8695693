import type { Overlay, ShapedOverlay } from "../../api/client";
import { Choice } from "../../parts/choice";
import { Field } from "../../parts/field";
import { Settled } from "../../parts/settled";

type Change = (part: Partial<Overlay>) => void;
type Refused = Record<string, string>;

const costs = [
  { name: "hub_step", label: "To a hub, times its place in the list", usual: 100 },
  { name: "hub_hub", label: "From hub to hub", usual: 10 },
  { name: "direct", label: "Over a direct pair", usual: 50 },
] as const;

const choices = [
  {
    name: "transport",
    label: "Transport",
    of: { wireguard: "WireGuard", ipsec: "IPsec" },
    usual: "wireguard",
  },
  {
    name: "numbering",
    label: "Tunnel addresses",
    of: { "per-tunnel": "two for each tunnel", "per-site": "one for each site" },
    usual: "per-tunnel",
  },
  {
    name: "family",
    label: "Outside, between gateways",
    of: { "": "IPv4 where it can", v4: "IPv4 only", v6: "IPv6 only" },
    usual: "",
  },
] as const;

/** Settings are what paths cost and how the overlay's tunnels are made. */
export function Settings(props: { overlay: ShapedOverlay; refused: Refused; onChange: Change }) {
  const { overlay, refused, onChange } = props;
  return (
    <div className="grid grid-cols-2 gap-8 overflow-auto h-full content-start">
      <section aria-label="Costs">
        <h2 className="text-lg">What paths cost</h2>
        <p className="text-[13px] text-secondary mb-2">
          Traffic takes the cheapest path, and its answers the same. While going between hubs is cheaper than
          a step down the list, a hub reaches most spokes by their first hub; where that hub has lost its
          tunnels to a spoke, the other hub's own LAN does not reach it.
        </p>
        {costs.map((c) => (
          <Field key={c.name} label={c.label} error={refused[`costs.${c.name}`]}>
            {(aria) => (
              <Settled
                {...aria}
                className="cell w-28 num mb-2"
                inputMode="numeric"
                placeholder={String(c.usual)}
                value={String(overlay.costs?.[c.name] || "")}
                onSettle={(text) => {
                  const next = { ...overlay.costs, [c.name]: text ? Number(text) : undefined };
                  onChange({ costs: Object.values(next).some(Boolean) ? next : undefined });
                }}
              />
            )}
          </Field>
        ))}
      </section>
      <section aria-label="Tunnels">
        <h2 className="text-lg mb-2">How tunnels are made</h2>
        {choices.map((c) => (
          <Choice
            key={c.name}
            label={c.label}
            error={refused[c.name]}
            className="max-w-56 mb-2"
            value={overlay[c.name] || c.usual}
            of={c.of}
            onChoose={(value) =>
              onChange({
                [c.name]: value === c.usual ? undefined : value,
                // IPsec ends prove who they are with credentials of their own.
                ...(value === "ipsec" ? { preshared_keys: undefined } : {}),
              })
            }
          />
        ))}
        <Field label="Keepalive of ends behind NAT, s" error={refused.keepalive_s}>
          {(aria) => (
            <Settled
              {...aria}
              className="cell w-28 num mb-2"
              inputMode="numeric"
              placeholder="25"
              value={String(overlay.keepalive_s || "")}
              onSettle={(text) => onChange({ keepalive_s: text ? Number(text) : undefined })}
            />
          )}
        </Field>
        {overlay.transport === "ipsec" ? <Crypto {...props} /> : null}
      </section>
    </div>
  );
}

const proposals = [
  {
    name: "ike",
    label: "IKE proposals, the preferred first",
    hint: "ENCR_AES_GCM_16-256/PRF_HMAC_SHA2_384/384-bit-random-ECP",
  },
  { name: "esp", label: "ESP proposals", hint: "ENCR_AES_GCM_16-256/384-bit-random-ECP" },
] as const;

const lifetimes = [
  { name: "ike_lifetime_s", label: "IKE lifetime, s", usual: 28800 },
  { name: "child_lifetime_s", label: "Child lifetime, s", usual: 3600 },
] as const;

/** Crypto is what an IPsec overlay offers, by IANA's names of transforms. */
function Crypto({
  overlay,
  refused,
  onChange,
}: {
  overlay: ShapedOverlay;
  refused: Refused;
  onChange: Change;
}) {
  const set = (part: NonNullable<Overlay["crypto"]>) => {
    const next = { ...overlay.crypto, ...part };
    const filled = Object.values(next).some((v) => (Array.isArray(v) ? v.length > 0 : v));
    onChange({ crypto: filled ? next : undefined });
  };
  const wrong = (name: string) =>
    Object.entries(refused).find(([at]) => at.startsWith(`crypto.${name}`))?.[1];
  return (
    <>
      {proposals.map((p) => (
        <Field key={p.name} label={p.label} error={wrong(p.name)}>
          {(aria) => (
            <Settled
              {...aria}
              className="cell w-full font-mono text-xs mb-2"
              placeholder={p.hint}
              value={(overlay.crypto?.[p.name] ?? []).join(" ")}
              onSettle={(text) => set({ [p.name]: text.split(/[\s,;]+/).filter(Boolean) })}
            />
          )}
        </Field>
      ))}
      {lifetimes.map((l) => (
        <Field key={l.name} label={l.label} error={wrong(l.name)}>
          {(aria) => (
            <Settled
              {...aria}
              className="cell w-28 num mb-2"
              inputMode="numeric"
              placeholder={String(l.usual)}
              value={String(overlay.crypto?.[l.name] || "")}
              onSettle={(text) => set({ [l.name]: text ? Number(text) : undefined })}
            />
          )}
        </Field>
      ))}
    </>
  );
}
