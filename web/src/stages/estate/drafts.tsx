import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { answered, client, type DraftSummary, type EstateCard } from "../../api/client";
import { useCard, useReleases } from "../../api/queries";
import { DeskFrame, estateTabs } from "../../parts/desk-frame";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { When } from "../../parts/when";

/** Drafts lists what is worked on in an estate, and what was released. */
export default function Drafts() {
  const { estate = "" } = useParams();
  const card = useCard(estate);
  const e = card.data;
  return (
    <DeskFrame
      title={e?.name ?? estate}
      lead="Who is changing what, on which release is it based, and what is in force?"
      tabs={estateTabs(estate)}
    >
      <Trouble error={card.error} />
      {card.isPending ? <Waiting what="the drafts" /> : null}
      {e ? (
        <>
          <DraftTable card={e} />
          {e.role === "reader" ? null : <NewDraft card={e} />}
          <Releases card={e} />
          {e.role === "owner" ? <DeleteEstate card={e} /> : null}
        </>
      ) : null}
    </DeskFrame>
  );
}

function DraftTable({ card }: { card: EstateCard }) {
  const [shelf, setShelf] = useState(false);
  const open = card.drafts.filter((d) => !d.discarded);
  const discarded = card.drafts.filter((d) => d.discarded);
  return (
    <section className="mb-4">
      <h2 className="text-lg">Drafts</h2>
      <table className="ruled">
        <thead>
          <tr>
            <th>Draft</th>
            <th>Based on</th>
            <th>Last step</th>
            <th>By</th>
            <th>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {open.map((d) => (
            <DraftRow key={d.key} card={card} draft={d} />
          ))}
          {shelf ? discarded.map((d) => <DraftRow key={d.key} card={card} draft={d} />) : null}
        </tbody>
      </table>
      {open.length === 0 ? (
        <p className="py-2">No draft is open. Start one below to change anything.</p>
      ) : null}
      {discarded.length > 0 ? (
        <button type="button" className="link text-[13px] mt-1" onClick={() => setShelf(!shelf)}>
          {shelf ? "Hide discarded drafts" : `${discarded.length} discarded, kept`}
        </button>
      ) : null}
    </section>
  );
}

function DraftRow({ card, draft: d }: { card: EstateCard; draft: DraftSummary }) {
  const queries = useQueryClient();
  const params = { path: { estate: card.key, draft: d.key } };
  const shelve = useMutation({
    mutationFn: () =>
      answered(
        d.discarded
          ? client.POST("/api/estates/{estate}/drafts/{draft}/reopen", { params })
          : client.DELETE("/api/estates/{estate}/drafts/{draft}", { params }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["card", card.key] }),
  });
  return (
    <tr className={d.discarded ? "text-secondary" : ""}>
      <td className="max-w-72">
        <Link
          className="link link-primary font-semibold block truncate"
          title={d.name}
          to={`/e/${card.key}/d/${d.key}/survey`}
        >
          {d.name}
        </Link>
      </td>
      <td>
        {d.base ? `release ${d.base}` : "nothing"}
        {d.base < card.release ? (
          <span className="text-warning whitespace-nowrap"> ▲ {card.release - d.base} behind</span>
        ) : null}
      </td>
      <td className="max-w-80 truncate" title={d.last?.label}>
        {d.last ? `${d.last.kind === "edit" ? "" : `${d.last.kind} of `}${d.last.label}` : "no edit yet"}
      </td>
      <td className="text-[13px]">
        <span className="font-mono">{d.last?.author ?? d.author}</span>, <When at={d.last?.at ?? d.created} />
      </td>
      <td className="text-right whitespace-nowrap">
        {card.role === "reader" ? null : (
          <button
            type="button"
            className="btn btn-xs"
            disabled={shelve.isPending}
            onClick={() => shelve.mutate()}
            aria-label={`${d.discarded ? "Restore" : "Discard"} ${d.name}`}
          >
            {d.discarded ? "Restore" : "Discard"}
          </button>
        )}
        <Trouble error={shelve.error} />
      </td>
    </tr>
  );
}

function NewDraft({ card }: { card: EstateCard }) {
  const releases = useReleases(card.key).data ?? [];
  const [name, setName] = useState("");
  const [from, setFrom] = useState("released");
  const navigate = useNavigate();
  const queries = useQueryClient();
  const make = useMutation({
    mutationFn: () =>
      answered(
        client.POST("/api/estates/{estate}/drafts", {
          params: { path: { estate: card.key } },
          body: { name, from },
        }),
      ),
    onSuccess: (made) => {
      queries.invalidateQueries({ queryKey: ["card", card.key] });
      navigate(`/e/${card.key}/d/${made.key}/survey`);
    },
  });
  return (
    <form
      className="flex gap-2 items-end max-w-2xl mb-8"
      onSubmit={(e) => {
        e.preventDefault();
        make.mutate();
      }}
    >
      <label className="grow text-xs text-secondary">
        Name of a new draft
        <input
          className="cell text-base-content"
          value={name}
          maxLength={200}
          onChange={(e) => setName(e.target.value)}
        />
      </label>
      <label className="text-xs text-secondary">
        that starts from
        <select className="cell text-base-content" value={from} onChange={(e) => setFrom(e.target.value)}>
          <option value="released">the release in force</option>
          {releases
            .filter((r) => r.number < card.release)
            .map((r) => (
              <option key={r.number} value={`release-${r.number}`}>
                release {r.number}, {r.message.slice(0, 40)}
              </option>
            ))}
          {card.drafts
            .filter((d) => !d.discarded)
            .map((d) => (
              <option key={d.key} value={d.key}>
                draft {d.name}
              </option>
            ))}
        </select>
      </label>
      <button type="submit" className="btn btn-sm btn-primary" disabled={!name.trim() || make.isPending}>
        Start the draft
      </button>
      <Trouble error={make.error} />
    </form>
  );
}

function Releases({ card }: { card: EstateCard }) {
  const releases = useReleases(card.key);
  return (
    <section>
      <h2 className="text-lg">Releases</h2>
      <Trouble error={releases.error} />
      <table className="ruled">
        <thead>
          <tr>
            <th className="num">No.</th>
            <th>For what</th>
            <th>By</th>
            <th>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {(releases.data ?? []).map((r) => (
            <tr key={r.number}>
              <td className="num">{r.number}</td>
              <td>
                {r.message}
                {r.reason ? (
                  <p className="text-[13px] text-secondary">Released despite findings: {r.reason}</p>
                ) : null}
                {r.number === card.release ? <span className="text-primary"> ● in force</span> : null}
              </td>
              <td className="text-[13px]">
                <span className="font-mono">{r.author}</span>, <When at={r.at} />
              </td>
              <td className="text-right whitespace-nowrap space-x-3">
                <Link className="link" to={`/e/${card.key}/d/release-${r.number}/survey`}>
                  Look
                </Link>
                {r.number > 0 ? (
                  <Link
                    className="link"
                    to={`/e/${card.key}/compare?from=release-${r.number - 1}&to=release-${r.number}`}
                  >
                    What it changed
                  </Link>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** DeleteEstate asks for the name, as this is the one thing that no undo brings back. */
function DeleteEstate({ card }: { card: EstateCard }) {
  const [name, setName] = useState("");
  const navigate = useNavigate();
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: () =>
      answered(
        client.DELETE("/api/estates/{estate}", { params: { path: { estate: card.key }, query: { name } } }),
      ),
    onSuccess: () => {
      queries.removeQueries({ queryKey: ["card", card.key] });
      queries.invalidateQueries();
      navigate("/");
    },
  });
  return (
    <details className="mt-8">
      <summary className="cursor-pointer text-secondary">Delete this estate</summary>
      <p className="mt-2 max-w-2xl">
        All its drafts, releases and keys go for good, and nothing brings them back. If it may be needed,
        export a draft's document first, in Survey.
      </p>
      <form
        className="flex gap-2 items-end max-w-2xl mt-2"
        onSubmit={(e) => {
          e.preventDefault();
          remove.mutate();
        }}
      >
        <label className="grow text-xs text-secondary">
          Type its name, {card.name}, to delete it
          <input className="cell text-base-content" value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <button
          type="submit"
          className="btn btn-sm btn-error btn-outline"
          disabled={name.trim() !== card.name || remove.isPending}
        >
          Delete the estate
        </button>
      </form>
      <Trouble error={remove.error} />
    </details>
  );
}
