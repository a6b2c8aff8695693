import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { useBothEnds, useCheckKey } from "../../api/paths";
import { type Place, pageOf, usePlace } from "../../api/place";
import { shareText } from "../../parts/share";
import { StageHead } from "../../parts/stage-head";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { EndsNow } from "../watch/ends-now";

/** How the two values of a line belong together: a sign, and its words. */
const mirrors: Record<string, [sign: string, words: string]> = {
  same: ["=", "the same at both ends"],
  crossed: ["⇄", "crosses over: what is one end's own is what the other end is told"],
};

/** BothEnds lays the two ends of a tunnel side by side, line by line. */
export default function BothEnds() {
  const at = usePlace();
  const [params] = useSearchParams();
  const sheet = useBothEnds(at, params.get("overlay") ?? "", params.get("tunnel") ?? "");
  const s = sheet.data;
  const wrong = (s?.lines ?? []).filter((l) => l.wrong).length;
  return (
    <div className="pb-10">
      <StageHead
        title="Both ends"
        actions={
          s ? (
            <Link
              className="btn btn-sm"
              to={`${pageOf(at)}/watch/-/tunnel?${new URLSearchParams({ overlay: s.overlay, tunnel: s.tunnel })}`}
            >
              Watch it
            </Link>
          ) : null
        }
      >
        {s
          ? `${s.overlay}: ${s.tunnel}, choice ${s.rank} of ${s.of} between ${s.a} and ${s.b}${s.share ? `, for ${shareText(s.share)} of the flows` : ""}`
          : "Do the two ends of this tunnel belong together?"}
      </StageHead>
      <div className="px-6 max-w-5xl">
        <Trouble error={sheet.error} />
        {sheet.isPending ? <Waiting what="the tunnel" /> : null}
        {s ? (
          <>
            <p className="mb-2" role="status">
              {wrong === 0 ? (
                "✓ Both ends match."
              ) : (
                <strong className="text-error">
                  ■ {wrong} {wrong === 1 ? "line does" : "lines do"} not match.
                </strong>
              )}
            </p>
            <EndsNow at={at} sheet={s} />
            <table className="ruled table-fixed">
              <thead>
                <tr>
                  <th className="w-44">Designed</th>
                  <th>
                    <Link className="link" to={`${pageOf(at)}/paths/${s.a}`}>
                      {s.a}
                    </Link>
                  </th>
                  <th className="w-8">
                    <span className="sr-only">how they belong together</span>
                  </th>
                  <th>
                    <Link className="link" to={`${pageOf(at)}/paths/${s.b}`}>
                      {s.b}
                    </Link>
                  </th>
                </tr>
              </thead>
              <tbody>
                {s.lines.map((l) => (
                  <tr key={l.what} className={l.wrong ? "clash" : ""}>
                    <td>
                      {l.what}
                      {l.wrong ? <p className="text-error text-xs">■ {l.wrong}</p> : null}
                    </td>
                    <td className="font-mono text-[13px] wrap-anywhere whitespace-pre-line">{l.a}</td>
                    <td className="relative text-center text-secondary" title={mirrors[l.mirror]?.[1]}>
                      <span aria-hidden="true">{mirrors[l.mirror]?.[0]}</span>
                      <span className="sr-only">{mirrors[l.mirror]?.[1]}</span>
                    </td>
                    <td className="font-mono text-[13px] wrap-anywhere whitespace-pre-line">{l.b}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {s.lines.some((l) => l.what === "the peer's public key") ? (
              <div className="grid grid-cols-2 gap-6 mt-4">
                <KeyCheck at={at} site={s.a} />
                <KeyCheck at={at} site={s.b} />
              </div>
            ) : null}
          </>
        ) : null}
      </div>
    </div>
  );
}

/** KeyCheck says what is wrong with a key that was copied from somewhere. */
function KeyCheck({ at, site }: { at: Place; site: string }) {
  const [key, setKey] = useState("");
  const check = useCheckKey(at, site);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        check.mutate(key);
      }}
    >
      <label className="text-xs text-secondary block">
        Paste the public key that the peer of {site} has
        <input
          className="cell text-base-content font-mono"
          value={key}
          spellCheck={false}
          onChange={(e) => {
            setKey(e.target.value);
            check.reset();
          }}
        />
      </label>
      <button type="submit" className="btn btn-xs mt-1" disabled={!key || check.isPending}>
        Compare
      </button>
      <Trouble error={check.error} />
      {check.data ? (
        <p role="status" className={check.data.good ? "" : "text-error"}>
          {check.data.good ? "✓" : "■"} {check.data.text}
        </p>
      ) : null}
    </form>
  );
}
