import { ArrowDown, ArrowUp } from "lucide-react";
import { useState } from "react";
import type { Limits, LinkChoice, LinkPattern, TimingSheet } from "../../api/client";
import { useLimitLinks, useProbe, useRankLinks, useShed, useStanding } from "../../api/outages";
import type { Place } from "../../api/place";
import { useMayEdit } from "../../api/queries";
import { Idle } from "../../parts/idle";
import { count, many } from "../../parts/number";
import { Settled } from "../../parts/settled";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { short } from "./words";

/** Plan is what decides in an outage: the order of links, zones, probes. */
export function Plan({ at }: { at: Place }) {
  const standing = useStanding(at);
  return (
    <div className="grid grid-cols-2 gap-10 pb-10">
      <Trouble error={standing.error} />
      {standing.isPending ? <Waiting what="the plan" /> : null}
      {standing.data ? (
        <>
          {standing.data.idle.length > 0 ? (
            <div className="col-span-2 -mb-8">
              <Idle sites={standing.data.idle} />
            </div>
          ) : null}
          <Order at={at} patterns={standing.data.patterns} zones={standing.data.zones} />
          <div>
            <Shed at={at} shed={standing.data.shed} zones={standing.data.zones} />
            <h2 className="text-lg mt-6">Probes</h2>
            <p className="text-xs text-secondary">
              Every tunnel is probed from both ends. Detection = interval × misses + timeout; return =
              interval × successes, so that a flapping link stays out. A tunnel beyond its limits steps behind
              others to the same site, for the zones held to them; only gateways that run wideknot gateway do
              that.
            </p>
            {standing.data.timings.map((t) => (
              <Probes
                key={`${t.overlay} ${JSON.stringify(t.probe)}`}
                at={at}
                timing={t}
                zones={standing.data.zones}
              />
            ))}
          </div>
        </>
      ) : null}
    </div>
  );
}

/** The links of an order, those that share the load in one group. */
function groupsOf(order: LinkChoice[]): LinkChoice[][] {
  const groups: LinkChoice[][] = [];
  for (const c of order) {
    if (c.shares) {
      groups.at(-1)?.push(c);
    } else {
      groups.push([c]);
    }
  }
  return groups;
}

/** The groups as the server takes them. */
const flat = (groups: LinkChoice[][]): LinkChoice[] =>
  groups.flatMap((g) =>
    g.map((c, i) => ({ key: c.key, shares: i > 0, ...(g.length > 1 ? { weight: c.weight || 1 } : {}) })),
  );

/** One link a step earlier or later: past its neighbours, or out of those it shares with. */
function stepped(groups: LinkChoice[][], at: number, choice: LinkChoice, by: -1 | 1): LinkChoice[][] {
  const group = groups[at] as LinkChoice[];
  if (group.length === 1) {
    return moved(groups, at, by);
  }
  const out = [...groups];
  const rest = group.filter((c) => c !== choice);
  out.splice(at, 1, ...(by < 0 ? [[choice], rest] : [rest, [choice]]));
  return out;
}

/** A link joins those above it, or leaves those it shares with. */
function joined(groups: LinkChoice[][], at: number, choice: LinkChoice): LinkChoice[][] {
  if ((groups[at] as LinkChoice[])[0] !== choice) {
    return stepped(groups, at, choice, 1);
  }
  const out = [...groups];
  out.splice(at - 1, 2, [...(groups[at - 1] as LinkChoice[]), ...(groups[at] as LinkChoice[])]);
  return out;
}

function Order({ at, patterns, zones }: { at: Place; patterns: LinkPattern[]; zones: string[] }) {
  const mayEdit = useMayEdit(at);
  const rank = useRankLinks(at);
  const limit = useLimitLinks(at);
  return (
    <section aria-label="Order of links">
      <h2 className="text-lg">Which link first</h2>
      <p className="text-xs text-secondary">
        Sites with the same links in the same order, together. Tunnels follow at both ends. Links that share
        the load take each flow whole, there and back.
      </p>
      <Trouble error={rank.error ?? limit.error} />
      {patterns.map((p) => (
        <Pattern
          key={p.sites.join(" ")}
          pattern={p}
          zones={zones}
          mayRank={mayEdit && !rank.isPending}
          mayLimit={mayEdit && !limit.isPending}
          onRank={(groups) => rank.mutate({ sites: p.sites, first: flat(groups) })}
          onLimit={(link, zones) => limit.mutate({ sites: p.sites, link, zones })}
        />
      ))}
    </section>
  );
}

/** Pattern is the order of links of all sites that have the same. */
function Pattern(props: {
  pattern: LinkPattern;
  zones: string[];
  mayRank: boolean;
  mayLimit: boolean;
  onRank: (groups: LinkChoice[][]) => void;
  onLimit: (link: string, zones: string[]) => void;
}) {
  const { pattern: p, zones, onRank: save } = props;
  const groups = groupsOf(p.order);
  return (
    <div className="border-b border-base-300 py-2" data-pattern={p.order.map((c) => c.key).join(" ")}>
      <p className="text-[13px]" title={p.sites.join(", ")}>
        <strong>{p.sites.length === 1 ? p.sites[0] : `${p.sites.length} sites`}</strong>{" "}
        <span className="text-secondary">
          {p.sites.length > 1 ? `${p.sites.slice(0, 4).join(", ")}${p.sites.length > 4 ? " …" : ""}` : ""}
        </span>
      </p>
      <ol>
        {groups.map((group, place) =>
          group.map((c, i) => (
            <li key={c.key} className="flex gap-2 items-center text-[13px] py-0.5">
              <span className="num w-5 shrink-0 text-right text-secondary">{i === 0 ? place + 1 : "="}</span>
              <span className="font-mono w-20 shrink-0 truncate" title={c.key}>
                {c.key}
              </span>
              <Step
                label={`${c.key} earlier`}
                up
                disabled={!props.mayRank || (place === 0 && group.length === 1)}
                onClick={() => save(stepped(groups, place, c, -1))}
              />
              <Step
                label={`${c.key} later`}
                disabled={!props.mayRank || (place === groups.length - 1 && group.length === 1)}
                onClick={() => save(stepped(groups, place, c, 1))}
              />
              {place > 0 || i > 0 ? (
                <button
                  type="button"
                  className={`btn btn-xs relative w-24 shrink-0 ${i > 0 ? "btn-active" : ""}`}
                  aria-pressed={i > 0}
                  data-share={c.key}
                  disabled={!props.mayRank}
                  onClick={() => save(joined(groups, place, c))}
                >
                  share with <span aria-hidden="true">↑</span>
                  <span className="sr-only">the link above, {c.key}</span>
                </button>
              ) : (
                <span className="w-24 shrink-0" />
              )}
              {group.length > 1 ? (
                <span className="text-xs text-secondary whitespace-nowrap">
                  <Settled
                    className="cell w-10 text-base-content num"
                    inputMode="numeric"
                    aria-label={`Parts of the flows for ${c.key}`}
                    disabled={!props.mayRank}
                    value={String(c.weight || 1)}
                    onSettle={(text) =>
                      save(
                        groups.map((g) =>
                          g === group ? g.map((o) => (o === c ? { ...o, weight: Number(text) } : o)) : g,
                        ),
                      )
                    }
                  />{" "}
                  of {group.reduce((sum, o) => sum + (o.weight || 1), 0)}
                </span>
              ) : null}
              <ZonesOn
                link={c.key}
                only={p.zones[p.order.findIndex((o) => o.key === c.key)] ?? []}
                zones={zones}
                disabled={!props.mayLimit}
                onChoose={(only) => props.onLimit(c.key, only)}
              />
            </li>
          )),
        )}
      </ol>
    </div>
  );
}

/** ZonesOn chooses for which zones a link is. */
function ZonesOn(props: {
  link: string;
  only: string[];
  zones: string[];
  disabled: boolean;
  onChoose: (zones: string[]) => void;
}) {
  const only = props.only.join(" ");
  return (
    <select
      className="cell w-34 ml-auto shrink-0"
      aria-label={`Zones on ${props.link}`}
      disabled={props.disabled}
      value={only}
      onChange={(e) => props.onChoose(e.target.value.split(" ").filter(Boolean))}
    >
      <option value="">for all zones</option>
      {props.zones.map((z) => (
        <option key={z} value={z}>
          for {z} only
        </option>
      ))}
      {only && !props.zones.includes(only) ? (
        <option value={only}>for {props.only.join(", ")} only</option>
      ) : null}
    </select>
  );
}

function moved<T>(list: T[], at: number, by: number): T[] {
  const out = [...list];
  const [one] = out.splice(at, 1);
  out.splice(at + by, 0, one as T);
  return out;
}

function Step(props: { label: string; up?: boolean; disabled: boolean; onClick: () => void }) {
  return (
    <button
      type="button"
      className="btn btn-xs btn-square"
      aria-label={props.label}
      disabled={props.disabled}
      onClick={props.onClick}
    >
      {props.up ? <ArrowUp size={12} /> : <ArrowDown size={12} />}
    </button>
  );
}

function Shed({ at, shed, zones }: { at: Place; shed: string[]; zones: string[] }) {
  const mayEdit = useMayEdit(at);
  const save = useShed(at);
  const rest = zones.filter((z) => !shed.includes(z));
  return (
    <section aria-label="Shedding order">
      <h2 className="text-lg">Zones shed first</h2>
      <p className="text-xs text-secondary">
        Where what is left is too narrow. Zones not listed are shed last, together.
      </p>
      <Trouble error={save.error} />
      <ol>
        {shed.map((z, i) => (
          <li key={z} className="flex gap-2 items-center text-[13px] py-0.5">
            <span className="num w-5 text-right text-secondary">{i + 1}</span>
            <span className="font-mono w-28">{z}</span>
            <Step
              label={`${z} earlier`}
              up
              disabled={!mayEdit || i === 0}
              onClick={() => save.mutate(moved(shed, i, -1))}
            />
            <Step
              label={`${z} later`}
              disabled={!mayEdit || i === shed.length - 1}
              onClick={() => save.mutate(moved(shed, i, 1))}
            />
            <button
              type="button"
              className="btn btn-xs"
              disabled={!mayEdit}
              onClick={() => save.mutate(shed.filter((s) => s !== z))}
            >
              Take out
            </button>
          </li>
        ))}
      </ol>
      {mayEdit && rest.length > 0 ? (
        <select
          className="cell w-48 mt-1"
          aria-label="Add a zone to be shed"
          value=""
          onChange={(e) => save.mutate([...shed, e.target.value])}
        >
          <option value="">Add a zone …</option>
          {rest.map((z) => (
            <option key={z}>{z}</option>
          ))}
        </select>
      ) : null}
    </section>
  );
}

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

function Probes({ at, timing, zones }: { at: Place; timing: TimingSheet; zones: string[] }) {
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
