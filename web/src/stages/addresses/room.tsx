import { useState } from "react";
import type { EstateHead } from "../../api/client";
import type { Place } from "../../api/place";
import { useMayEdit } from "../../api/queries";
import { useReserve, useRoom } from "../../api/space";
import { Trouble } from "../../parts/trouble";

/** Room finds a free block of a size and keeps it for something. */
export function Room({
  at,
  head,
  onShow,
}: {
  at: Place;
  head: EstateHead;
  onShow: (prefix: string) => void;
}) {
  const [bits, setBits] = useState("22");
  const [region, setRegion] = useState("");
  const [ipv6, setIPv6] = useState(false);
  const [purpose, setPurpose] = useState("");
  const mayEdit = useMayEdit(at);
  const length = Number(bits);
  const good = Number.isInteger(length) && length > 0 && length <= (ipv6 ? 128 : 32);
  const offers = useRoom(at, good ? length : 0, region, ipv6);
  const reserve = useReserve(at);
  return (
    <section aria-label="Find room" className="text-[13px]">
      <h2 className="text-lg">Find room</h2>
      <div className="flex gap-2 items-end">
        <label className="text-xs text-secondary w-16">
          Size, /
          <input
            className="cell text-base-content font-mono"
            value={bits}
            aria-invalid={!good}
            onChange={(e) => setBits(e.target.value)}
          />
        </label>
        <label className="text-xs text-secondary grow">
          In region
          <select
            className="cell text-base-content"
            value={region}
            onChange={(e) => setRegion(e.target.value)}
          >
            <option value="">any</option>
            {head.regions.map((r) => (
              <option key={r.key}>{r.key}</option>
            ))}
          </select>
        </label>
        <label className="flex gap-1 pb-1.5">
          <input type="checkbox" checked={ipv6} onChange={(e) => setIPv6(e.target.checked)} />
          IPv6
        </label>
      </div>
      {good ? null : <p className="text-error">■ a length from 1 to {ipv6 ? 128 : 32}</p>}
      <Trouble error={offers.error ?? reserve.error} />
      {mayEdit ? (
        <label className="text-xs text-secondary block mt-1">
          to be kept for
          <input
            className="cell text-base-content"
            value={purpose}
            placeholder="the new works"
            onChange={(e) => setPurpose(e.target.value)}
          />
        </label>
      ) : null}
      <ul className="mt-1">
        {(offers.data ?? []).map((o) => (
          <li key={o.prefix} className="flex gap-3 items-center border-b border-base-300 py-1">
            <button type="button" className="link font-mono" onClick={() => onShow(o.prefix)}>
              {o.prefix}
            </button>
            <span className="text-secondary grow">
              {o.region}, {o.left} more
            </span>
            {mayEdit ? (
              <button
                type="button"
                className="btn btn-xs"
                disabled={!purpose.trim() || reserve.isPending}
                title={purpose.trim() ? "" : "Say above what it is kept for"}
                onClick={() =>
                  reserve.mutate(
                    { prefix: o.prefix, for: purpose.trim() },
                    { onSuccess: () => setPurpose("") },
                  )
                }
              >
                Reserve
              </button>
            ) : null}
          </li>
        ))}
      </ul>
      {offers.data?.length === 0 ? (
        <p className="py-1">
          No region block has room for a /{bits}. Regions and their blocks are set in Survey.
        </p>
      ) : null}
    </section>
  );
}
