import { useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Fix, ImportPreview, Parcel, Sheets } from "../../api/client";
import { pageOf, usePlace } from "../../api/place";
import { useImport, usePreview } from "../../api/queries";
import { count, many } from "../../parts/number";
import { StageHead } from "../../parts/stage-head";
import { Tabs } from "../../parts/tabs";
import { Trouble } from "../../parts/trouble";
import { Preview } from "./preview";
import { Source } from "./source";

const sheetNames = ["sites", "links", "subnets"] as const;
const examples: Record<string, string> = {
  sites: "key,name,region\ntarnhollow,Tarn Hollow Works,north",
  links: "site,key,reach,addresses,rank\ntarnhollow,fibre,static,203.0.113.14,1",
  subnets: "site,prefix,zone\ntarnhollow,10.16.4.0/24,control",
};

/** Import reads sheets or a document, shows what is in them, and takes them when told to. */
export default function Import() {
  const at = usePlace();
  const [kind, setKind] = useState<"sheets" | "document">("sheets");
  const [sheets, setSheets] = useState<Sheets>({});
  const [document, setDocument] = useState("");
  const [fixes, setFixes] = useState<Fix[]>([]);
  const [request, setRequest] = useState(() => crypto.randomUUID());
  const preview = usePreview(at);
  // What was seen last stays while it is made anew, with the cell one works in.
  const [seen, setSeen] = useState<ImportPreview>();
  const take = useImport(at);
  const navigate = useNavigate();

  const parcel = (): Parcel => (kind === "sheets" ? { sheets, fixes } : { document });
  const changed = () => {
    preview.reset();
    setSeen(undefined);
    take.reset();
    setRequest(crypto.randomUUID());
  };
  const look = (next: Fix[] = fixes) =>
    preview.mutate(kind === "sheets" ? { sheets, fixes: next } : parcel(), { onSuccess: setSeen });
  const fix = (m: Fix) => {
    const next = [...fixes.filter((o) => o.sheet !== m.sheet || o.row !== m.row || o.column !== m.column), m];
    setFixes(next);
    setRequest(crypto.randomUUID());
    look(next);
  };
  const empty = kind === "sheets" ? !sheetNames.some((s) => sheets[s]?.trim()) : !document.trim();
  return (
    <div className="pb-10">
      <StageHead
        title="Import"
        actions={
          <Link className="btn btn-sm" to="..">
            Back to the ledger
          </Link>
        }
      >
        What is in these sheets, what is wrong with them, and what would they change?
      </StageHead>
      <div className="px-6">
        <Tabs
          label="What to import"
          tabs={["sheets", "document"]}
          chosen={kind}
          onChoose={(k) => {
            setKind(k);
            changed();
          }}
          words={(k) => (k === "sheets" ? "Three sheets (CSV)" : "Estate document (YAML or JSON)")}
        >
          {kind === "sheets" ? (
            <SheetSources
              sheets={sheets}
              onText={(sheet, text) => {
                setSheets({ ...sheets, [sheet]: text });
                setFixes(fixes.filter((m) => m.sheet !== sheet));
                changed();
              }}
            />
          ) : (
            <Source
              name="Estate document"
              accept=".yaml,.yml,.json"
              example={"wideknot: 1\nestate: {name: …}"}
              text={document}
              onText={(text) => {
                setDocument(text);
                changed();
              }}
            />
          )}
        </Tabs>
        <div className="mt-3 flex gap-3 items-center">
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={empty || preview.isPending}
            onClick={() => look()}
          >
            Preview
          </button>
          {preview.isPending ? (
            <span className="loading loading-dots loading-sm" role="status" aria-label="Reading" />
          ) : (
            <span className="text-secondary text-[13px]">
              Nothing is taken yet. Rows whose key is already in the estate will update it; nothing is
              deleted.
            </span>
          )}
        </div>
        <Trouble error={preview.error} />
        {seen ? (
          <>
            <Preview preview={seen} fixes={fixes} busy={preview.isPending} onFix={fix} />
            <Decision
              preview={seen}
              busy={take.isPending || preview.isPending}
              onTake={(leaveBad) =>
                take.mutate(
                  { parcel: { ...parcel(), leave_bad: leaveBad }, request },
                  { onSuccess: () => navigate(`${pageOf(at)}/survey`) },
                )
              }
            />
            <Trouble error={take.error} />
          </>
        ) : null}
      </div>
    </div>
  );
}

/** SheetSources takes the three sheets, each by file or by pasting. */
function SheetSources(props: { sheets: Sheets; onText: (sheet: string, text: string) => void }) {
  return (
    <div className="grid grid-cols-3 gap-4">
      {sheetNames.map((s) => (
        <Source
          key={s}
          name={`Sheet of ${s === "links" ? "WAN links" : s === "subnets" ? "LAN subnets" : "sites"}`}
          accept=".csv,.txt,.tsv,text/csv"
          example={examples[s] ?? ""}
          text={props.sheets[s] ?? ""}
          onText={(text) => props.onText(s, text)}
        />
      ))}
    </div>
  );
}

function Decision({
  preview,
  busy,
  onTake,
}: {
  preview: ImportPreview;
  busy: boolean;
  onTake: (leaveBad: boolean) => void;
}) {
  const bad = preview.sheets.reduce((n, s) => n + s.bad, 0);
  const good = preview.sheets.reduce((n, s) => n + s.rows - s.bad, 0);
  if (preview.problems.length > 0) {
    return <p className="mt-4">A document is imported whole or not at all: fix it and preview it again.</p>;
  }
  if (preview.sheets.some((s) => s.unread)) {
    return <p className="mt-4">A sheet cannot be read: put it right, above, and preview it again.</p>;
  }
  if (preview.sheets.length > 0 && good === 0) {
    return <p className="mt-4">No row can be imported.</p>;
  }
  const words =
    preview.sheets.length === 0
      ? "Import the document"
      : bad > 0
        ? `Import ${many(good, "good row")}, leave ${count(bad)} out`
        : `Import ${many(good, "row")}`;
  return (
    <p className="mt-4 flex gap-3 items-center">
      <button
        type="button"
        className="btn btn-sm btn-primary"
        disabled={busy}
        onClick={() => onTake(bad > 0)}
      >
        {words}
      </button>
      <span className="text-secondary">
        The estate will have {many(preview.sites, "site")}
        {preview.findings.error
          ? ` and ${preview.findings.error} ${preview.findings.error === 1 ? "error" : "errors"} to fix`
          : ""}
        . One undo takes all of it back.
      </span>
    </p>
  );
}
