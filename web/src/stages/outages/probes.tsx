import { useState } from "react";
import type { Limits, TimingSheet } from "../../api/client";
import { useProbe } from "../../api/outages";
import type { Place } from "../../api/place";
import { useMayEdit } from "../../api/queries";
import { count, many } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { short } from "./words";

const fields = [
  { name: "interval_ms", label: "Interval, ms", of: (t: TimingSheet) => t.timing.interval * 1000 },
  { name: "misses", label: "Misses", of: (t: TimingSheet) => t.timing.misses },
  { name: "timeout_ms", label: "Timeout, ms", of: (t: TimingSheet) => t.timing.timeout * 1000 },
  { name: "successes", label: "Successes", of: (t: TimingSheet) => t.timing.successes },
] as const;

type Target = "far-end" | "far-lan";

const limitFields = [
  { name: "latency_ms", label: "Latency at most, ms" },
  { name: "jitter_ms", label: "Jitter, ms" },
  { name: "loss_percent", label: "Loss, %" },
  { name: "window_s", label: "Measured over, s" },
] as const;

/** Limits as typed; those of no zone are none. */
type LimitForm = { zones: string[] } & Record<(typeof limitFields)[number]["name"], string>;

const limitForm = (l: Limits | undefined): LimitForm => ({
  zones: l?.zones ?? [],
  latency_ms: text(l?.latency_ms),
  jitter_ms: text(l?.jitter_ms),
  loss_percent: text(l?.loss_percent),
  window_s: text(l?.window_s),
});

const text = (n: number | undefined) => (n ? String(n) : "");

const limitsOf = (form: LimitForm): Limits | undefined =>
  form.zones.length === 0 && limitFields.every((f) => !form[f.name])
    ? undefined
    : {
        zones: form.zones,
        ...Object.fromEntries(
          limitFields.filter((f) => form[f.name].trim()).map((f) => [f.name, Number(form[f.name])]),
        ),
      };

export function Probes({ at, timing, zones }: { at: Place; timing: TimingSheet; zones: string[] }) {
  const mayEdit = useMayEdit(at);
  const save = useProbe(at);
  const [form, setForm] = useState(
    () => Object.fromEntries(fields.map((f) => [f.name, String(f.of(timing))])) as Record<string, string>,
  );
  const was: Target = timing.probe.target === "far-lan" ? "far-lan" : "far-end";
  const [target, setTarget] = useState<Target>(was);
  const number = (name: string) => Number(form[name] ?? "");
  const [limits, setLimits] = useState(() => limitForm(timing.probe.limits));
  const changed =
    target !== was ||
    fields.some((f) => number(f.name) !== f.of(timing)) ||
    JSON.stringify(limits) !== JSON.stringify(limitForm(timing.probe.limits));
  return (
    <form
      className="border-b border-base-300 py-2"
      aria-label={`Probes of ${timing.overlay}`}
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate({
          overlay: timing.overlay,
          probe: {
            interval_ms: number("interval_ms"),
            misses: number("misses"),
            timeout_ms: number("timeout_ms"),
            successes: number("successes"),
            target,
            limits: limitsOf(limits),
          },
        });
      }}
    >
      <p className="text-[13px]">
        <strong className="font-mono">{timing.overlay}</strong>: declared down after{" "}
        {short(timing.timing.best)} to <strong>{short(timing.timing.detect)} s</strong>, up again after{" "}
        {short(timing.timing.return)} s
      </p>
      <div className="flex flex-wrap gap-x-3 gap-y-1 items-end">
        {fields.map((f) => (
          <Figure
            key={f.name}
            label={f.label}
            mayEdit={mayEdit}
            value={form[f.name] ?? ""}
            onChange={(value) => setForm({ ...form, [f.name]: value })}
          />
        ))}
      </div>
      <label className="text-xs text-secondary flex gap-2 items-center mt-1">
        Answered by
        <select
          className="cell w-56 text-base-content"
          disabled={!mayEdit}
          value={target}
          onChange={(e) => setTarget(e.target.value as Target)}
        >
          <option value="far-end">the tunnel's far end</option>
          <option value="far-lan">the far gateway's LAN address</option>
        </select>
      </label>
      <p className="text-xs text-secondary mt-1">
        An answer proves {timing.timing.proves}. It does not show {timing.timing.ignores}.
      </p>
      <LimitFields
        timing={timing}
        zones={[...new Set([...zones, ...limits.zones])]}
        form={limits}
        mayEdit={mayEdit}
        onChange={setLimits}
      />
      {changed ? (
        <button type="submit" className="btn btn-xs mt-1" disabled={!mayEdit || save.isPending}>
          Save
        </button>
      ) : null}
      <Trouble error={save.error} />
    </form>
  );
}

/** Limits of a tunnel's quality, the zones held to them, and what the survey lets expect. */
function LimitFields(props: {
  timing: TimingSheet;
  zones: string[];
  form: LimitForm;
  mayEdit: boolean;
  onChange: (form: LimitForm) => void;
}) {
  const { timing, form, mayEdit, onChange } = props;
  return (
    <fieldset className="mt-2">
      <legend className="sr-only">Limits of {timing.overlay}</legend>
      <div className="flex flex-wrap gap-x-3 gap-y-1 items-end">
        {limitFields.map((f) => (
          <Figure
            key={f.name}
            label={f.label}
            mayEdit={mayEdit}
            placeholder={f.name === "window_s" ? "30" : "none"}
            value={form[f.name]}
            onChange={(value) => onChange({ ...form, [f.name]: value })}
          />
        ))}
      </div>
      <div className="flex flex-wrap gap-x-3 text-[13px] mt-1">
        <span className="text-xs text-secondary self-center">Limits hold</span>
        {props.zones.map((z) => (
          <label key={z} className="flex gap-1 items-center">
            <input
              type="checkbox"
              aria-label={`Hold ${z} to the limits of ${timing.overlay}`}
              disabled={!mayEdit}
              checked={form.zones.includes(z)}
              onChange={(e) =>
                onChange({
                  ...form,
                  zones: e.target.checked ? [...form.zones, z] : form.zones.filter((o) => o !== z),
                })
              }
            />
            {z}
          </label>
        ))}
      </div>
      {timing.exceed > 0 ? (
        <p className="text-xs text-warning mt-1" title={timing.beyond.join("\n")}>
          ▲ By the survey {many(timing.exceed, "tunnel")} {timing.exceed === 1 ? "is" : "are"} beyond them:{" "}
          {timing.beyond.slice(0, 3).join(", ")}
          {timing.exceed > 3 ? ` and ${count(timing.exceed - 3)} more` : ""}
        </p>
      ) : null}
    </fieldset>
  );
}

/** A number with its name above it, as it is typed. */
function Figure(props: {
  label: string;
  mayEdit: boolean;
  placeholder?: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <label className="text-xs text-secondary">
      {props.label}
      <input
        className="cell block max-w-20 text-base-content"
        inputMode="decimal"
        disabled={!props.mayEdit}
        placeholder={props.placeholder}
        value={props.value}
        onChange={(e) => props.onChange(e.target.value)}
      />
    </label>
  );
}
