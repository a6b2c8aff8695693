import { type KeyboardEvent, type RefObject, useEffect, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { type EstateHead, type LedgerSite, Problem, type Site } from "../../api/client";
import { type Place, pageOf, usePlace } from "../../api/place";
import { useDeleteSite, useSaveSite } from "../../api/queries";
import { useAddLike, usePattern } from "../../api/space";
import { Editable } from "../../parts/editable";
import { Field } from "../../parts/field";
import { many } from "../../parts/number";
import { usePress } from "../../parts/press";
import { Trouble } from "../../parts/trouble";
import {
  type FieldOf,
  type Form,
  formOf,
  gatewayFields,
  linkFields,
  siteFields,
  siteOf,
  subnetFields,
} from "./draft";
import { Offers } from "./offers";

export const NEW_SITE = "+";

/** SiteEditor edits one site in its place in the ledger. */
export function SiteEditor(props: {
  at: Place;
  head?: EstateHead;
  site?: LedgerSite;
  /** For a new site: those it may be made like. */
  others?: LedgerSite[];
  onClose: () => void;
}) {
  const { site } = props;
  const [form, setForm] = useState(() => formOf(site));
  const [revision, setRevision] = useState(site?.revision);
  const save = useSaveSite(props.at);
  const remove = useDeleteSite(props.at);
  const box = useRef<HTMLFormElement>(null);

  useWantedField(box, form, site ? "name" : "key");
  // What was taken from the gateway is shown by the form once the ledger has it.
  const taken = useRef(false);
  useEffect(() => {
    if (taken.current && site) {
      taken.current = false;
      setForm(formOf(site));
      setRevision(site.revision);
    }
  }, [site]);

  const pattern = usePattern(props.at);
  const addLike = useAddLike(props.at);
  const [like, setLike] = useState("");
  const navigate = useNavigate();
  const submit = (over = revision) => {
    if (like && pattern.data) {
      const made = siteOf(pattern.data.site, form);
      addLike.mutate(
        { site: made, pattern: like },
        { onSuccess: () => navigate(`${pageOf(props.at)}/paths/${made.key}?view=configuration`) },
      );
      return;
    }
    save.mutate({ site: siteOf(bare(site), form), revision: over }, { onSuccess: props.onClose });
  };
  const failed = save.error ?? addLike.error;
  const refused = failed instanceof Problem ? failed.fields : {};
  // Mine goes over what others saved meanwhile, knowingly.
  const submitOver = (now: number) => {
    setRevision(now);
    submit(now);
  };
  const press = (e: KeyboardEvent) => {
    if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) {
      e.preventDefault(); // the browser would submit the form a second time
      submit();
    }
  };
  // Escape closes the site wherever the focus is.
  usePress((e) => {
    if (e.key === "Escape" && !document.querySelector("dialog[open]")) {
      props.onClose();
    }
  });
  const first = props.head?.overlays[0] ?? "";

  return (
    <form
      ref={box}
      aria-label={site ? `Edit ${site.name}` : "Add a site"}
      className="border-l-4 border-primary bg-base-200 px-4 py-3 my-1"
      onKeyDown={press}
      onSubmit={(e) => {
        e.preventDefault();
        submit();
      }}
    >
      {site ? (
        <Offers
          at={props.at}
          site={site.key}
          onTaken={() => {
            taken.current = true;
          }}
        />
      ) : null}
      <Editable>
        {!site && props.others?.length ? (
          <LikeChoice
            others={props.others}
            like={like}
            missing={like ? pattern.data?.missing : undefined}
            onChoose={(from) => {
              setLike(from);
              if (from) {
                pattern.mutate(from, { onSuccess: (made) => setForm((f) => likeThat(formOf(made.site), f)) });
              }
            }}
          />
        ) : null}
        <SiteFields
          form={form}
          regions={(props.head?.regions ?? []).map((r) => r.key)}
          fixedKey={Boolean(site)}
          refused={refused}
          onChange={(name, value) => setForm((f) => ({ ...f, site: { ...f.site, [name]: value } }))}
        />
        <Rows
          title="WAN links"
          part="links"
          one="a WAN link"
          rows={form.links}
          fields={linkFields}
          refused={refused}
          fresh={{ reach: "nat", rank: String(form.links.length + 1) }}
          onChange={(links) => setForm((f) => ({ ...f, links }))}
        />
        <Rows
          title="Subnets"
          part="subnets"
          one="a subnet"
          rows={form.subnets}
          fields={subnetFields}
          refused={refused}
          fresh={{ share: first }}
          onChange={(subnets) => setForm((f) => ({ ...f, subnets }))}
        />
      </Editable>
      <Trouble error={failed ?? remove.error ?? pattern.error} onOver={submitOver} />
      <Closing
        site={site?.key}
        saving={save.isPending}
        deleting={remove.isPending}
        onDelete={(key) => remove.mutate(key, { onSuccess: props.onClose })}
        onClose={props.onClose}
      />
    </form>
  );
}

/**
 * useWantedField puts the focus on the field that a finding speaks of, where one
 * led here, else on the first.
 */
function useWantedField(box: RefObject<HTMLFormElement | null>, form: Form, first: string) {
  const [params] = useSearchParams();
  const wantedLink = form.links.findIndex((l) => l.key === params.get("link"));
  const wantedSubnet = form.subnets.findIndex((n) => n.prefix === params.get("prefix"));
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the editor opens
  useEffect(() => {
    const at =
      wantedSubnet >= 0
        ? `subnets[${wantedSubnet}].prefix`
        : wantedLink >= 0
          ? `links[${wantedLink}].reach`
          : first;
    // After the ledger has measured and scrolled to the row.
    const timer = setTimeout(() => {
      const field = box.current?.querySelector<HTMLElement>(`[name="${CSS.escape(at)}"]`);
      if (field?.matches(":disabled")) {
        // For those who may not edit, the way out is all there is to focus.
        box.current?.querySelector<HTMLElement>("button:enabled")?.focus({ preventScroll: true });
      } else {
        field?.focus();
      }
    }, 60);
    return () => clearTimeout(timer);
  }, []);
}

/** A form filled after a pattern; the key and the name entered before stay. */
function likeThat(pattern: Form, entered: Form): Form {
  return {
    ...pattern,
    site: { ...pattern.site, key: entered.site.key ?? "", name: entered.site.name ?? "" },
  };
}

/** LikeChoice chooses a site after whose pattern a new one is made. */
function LikeChoice(props: {
  others: LedgerSite[];
  like: string;
  /** Subnets for which the region has no room; undefined while nothing is proposed. */
  missing?: string[];
  onChoose: (site: string) => void;
}) {
  return (
    <div className="mb-2 max-w-xl">
      <Field label="Like">
        {(aria) => (
          <select
            {...aria}
            className="cell"
            value={props.like}
            onChange={(e) => props.onChoose(e.target.value)}
          >
            <option value="">no other site: start empty</option>
            {props.others.map((o) => (
              <option key={o.key} value={o.key}>
                {o.name}
              </option>
            ))}
          </select>
        )}
      </Field>
      {props.missing ? (
        <p className="text-[13px]">
          Its links, zones and overlays, with the next free blocks of its region. Addresses and names of links
          are this site's own: enter them below.
          {props.missing.length > 0 ? ` The region has no room for ${props.missing.join(", ")}.` : ""}
        </p>
      ) : null}
    </div>
  );
}

/** SiteFields are the site's own fields, those of its gateway folded. */
function SiteFields(props: {
  form: Form;
  regions: string[];
  fixedKey: boolean;
  refused: Record<string, string>;
  onChange: (name: string, value: string) => void;
}) {
  const { form, refused } = props;
  return (
    <>
      <div className="flex flex-wrap gap-x-3 gap-y-2">
        {siteFields.map((f) => (
          <Entry
            key={f.name}
            field={f.name === "region" ? { ...f, kind: "choice", choices: ["", ...props.regions] } : f}
            path={f.name}
            value={form.site[f.name] ?? ""}
            locked={f.name === "key" && props.fixedKey}
            refused={refused}
            onChange={(v) => props.onChange(f.name, v)}
          />
        ))}
      </div>
      <details className="mt-2" open={Object.keys(refused).some((k) => k.startsWith("gateway"))}>
        <summary className="cursor-pointer text-xs text-secondary">
          Gateway: {form.site.placement || "inline"}
          {form.site.max_tunnels ? `, at most ${many(Number(form.site.max_tunnels), "tunnel")}` : ""}
        </summary>
        <div className="flex flex-wrap gap-x-3 gap-y-2 mt-1">
          {gatewayFields.map((f) => (
            <Entry
              key={f.name}
              field={f}
              path={`gateway.${f.name}`}
              value={form.site[f.name] ?? ""}
              refused={refused}
              onChange={(v) => props.onChange(f.name, v)}
            />
          ))}
        </div>
      </details>
    </>
  );
}

/** Closing is how the form is left: saved, closed, or with the site deleted. */
function Closing(props: {
  site?: string;
  saving: boolean;
  deleting: boolean;
  onDelete: (site: string) => void;
  onClose: () => void;
}) {
  const { site } = props;
  const at = usePlace();
  return (
    <div className="flex gap-2 mt-3 items-center">
      <Editable>
        <button type="submit" className="btn btn-sm btn-primary" disabled={props.saving}>
          {site ? "Save" : "Add the site"}
        </button>
      </Editable>
      <button type="button" className="btn btn-sm" onClick={props.onClose}>
        Close without saving
      </button>
      {site ? (
        <>
          <Link className="link link-primary text-[13px] ml-3" to={`${pageOf(at)}/paths/${site}`}>
            Its tunnels and routes
          </Link>
          <Editable>
            <button
              type="button"
              className="btn btn-sm ml-auto"
              disabled={props.deleting}
              onClick={() => props.onDelete(site)}
            >
              Delete the site
            </button>
          </Editable>
        </>
      ) : null}
    </div>
  );
}

/** The site as the document has it, without what the ledger adds. */
function bare(site?: LedgerSite): Site | undefined {
  if (!site) {
    return undefined;
  }
  const { revision: _r, tunnels: _t, hub_fit: _h, errors: _e, warnings: _w, ...rest } = site;
  return rest;
}

/** Rows edits a list of links or subnets, each row by its fields. */
function Rows(props: {
  title: string;
  part: "links" | "subnets";
  one: string;
  rows: Form["links"];
  fields: FieldOf[];
  refused: Record<string, string>;
  /** What a row that is added starts with. */
  fresh: Record<string, string>;
  onChange: (rows: Form["links"]) => void;
}) {
  const { rows, onChange } = props;
  return (
    <>
      <fieldset className="mt-3">
        <legend className="font-serif font-semibold">{props.title}</legend>
        {rows.map((row, at) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other identity while their key is being typed
          <div key={at} className="flex flex-wrap gap-x-2 gap-y-1 items-end py-1.5 border-b border-base-300">
            {props.fields
              .filter((f) => shows(f.name, row))
              .map((f) => (
                <Entry
                  key={f.name}
                  field={f}
                  path={`${props.part}[${at}].${f.name}`}
                  value={row[f.name] ?? ""}
                  refused={props.refused}
                  onChange={(v) => onChange(rows.map((r, i) => (i === at ? { ...r, [f.name]: v } : r)))}
                />
              ))}
            <button
              type="button"
              className="btn btn-xs mb-0.5"
              aria-label={`Remove ${row.key || row.prefix || "this row"}`}
              onClick={() => onChange(rows.filter((_, i) => i !== at))}
            >
              Remove
            </button>
          </div>
        ))}
      </fieldset>
      <button type="button" className="btn btn-xs" onClick={() => onChange([...rows, props.fresh])}>
        Add {props.one}
      </button>
    </>
  );
}

/** A link's host name and outside address are asked for only where its reach needs them. */
function shows(name: string, row: Record<string, string>) {
  return !(
    (name === "hostname" && row.reach !== "dynamic" && !row.hostname) ||
    (name === "outside" && row.reach !== "forwarded" && !row.outside)
  );
}

function Entry(props: {
  field: FieldOf;
  path: string;
  value: string;
  locked?: boolean;
  refused: Record<string, string>;
  onChange: (value: string) => void;
}) {
  const { field: f } = props;
  const error =
    props.refused[props.path] ??
    Object.entries(props.refused).find(([at]) => at.startsWith(`${props.path}[`))?.[1];
  const common = {
    name: props.path,
    className: `cell ${(f.kind === "text" || f.kind === "list") && !["name", "provider"].includes(f.name) ? "font-mono text-[13px]" : ""}`,
    value: props.value,
  };
  return (
    <div className={f.width}>
      <Field label={f.label} error={error}>
        {(aria) =>
          f.kind === "choice" ? (
            <select {...aria} {...common} onChange={(e) => props.onChange(e.target.value)}>
              {[...new Set([...(f.choices ?? []), props.value])].map((c) => (
                <option key={c} value={c}>
                  {c || (f.name === "region" ? "none" : "")}
                </option>
              ))}
            </select>
          ) : f.kind === "yes" ? (
            <input
              {...aria}
              name={props.path}
              type="checkbox"
              className="block h-7 w-4 accent-primary"
              checked={props.value !== ""}
              onChange={(e) => props.onChange(e.target.checked ? "true" : "")}
            />
          ) : (
            <input
              {...aria}
              {...common}
              readOnly={props.locked}
              placeholder={f.hint}
              autoComplete="off"
              spellCheck={false}
              onChange={(e) => props.onChange(e.target.value)}
            />
          )
        }
      </Field>
    </div>
  );
}
