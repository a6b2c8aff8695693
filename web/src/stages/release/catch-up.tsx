import { useState } from "react";
import { Link } from "react-router";
import type { EstateHead } from "../../api/client";
import type { Place } from "../../api/place";
import { useBehind, useCatchUp } from "../../api/queries";
import { count } from "../../parts/number";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** CatchUp brings a draft up to the release in force, each conflict as chosen. */
export function CatchUp({ at, head }: { at: Place; head: EstateHead }) {
  const behind = useBehind(at, true);
  const take = useCatchUp(at);
  const [choices, setChoices] = useState<Record<string, string>>({});
  const conflicts = behind.data?.conflicts ?? [];
  const open = conflicts.filter((c) => !choices[c.part]).length;
  return (
    <section className="border border-base-content p-4 mb-5 max-w-5xl">
      <h2 className="text-lg">▲ Release {head.release} came in between</h2>
      <p className="mb-2">
        This draft is based on release {head.base}. Bring it up to date before it can be released; undo takes
        that back.{" "}
        <Link
          className="link link-primary"
          to={`/e/${at.estate}/compare?from=release-${head.base}&to=release-${head.release}`}
        >
          What was released since
        </Link>
      </p>
      <Trouble error={behind.error ?? take.error} />
      {behind.isPending ? <Waiting what="what conflicts" /> : null}
      {behind.data ? (
        <p className="mb-2">
          {behind.data.released.length === 1
            ? "1 part comes"
            : `${count(behind.data.released.length)} parts come`}{" "}
          in from there as {behind.data.released.length === 1 ? "it is" : "they are"}.{" "}
          {conflicts.length === 0
            ? "Nothing conflicts."
            : `${conflicts.length} were changed here too: choose whose state each takes.`}
        </p>
      ) : null}
      {conflicts.map((c) => (
        <fieldset key={c.part} className="border-t border-base-300 py-2">
          <legend className="float-left w-full font-semibold">
            {c.name} <span className="font-mono font-normal text-secondary">{c.part}</span>
          </legend>
          <div className="grid grid-cols-2 gap-4 clear-both">
            {(["mine", "theirs"] as const).map((side) => (
              <label key={side} className="flex gap-2 items-start cursor-pointer">
                <input
                  type="radio"
                  className="mt-1"
                  name={c.part}
                  checked={choices[c.part] === side}
                  onChange={() => setChoices({ ...choices, [c.part]: side })}
                />
                <span className="min-w-0">
                  {side === "mine" ? "This draft's" : "The released"}
                  <ul className="font-mono text-[13px]">
                    {c[side].map((line) => (
                      <li key={line} className="break-words">
                        {line}
                      </li>
                    ))}
                  </ul>
                </span>
              </label>
            ))}
          </div>
        </fieldset>
      ))}
      <button
        type="button"
        className="btn btn-sm btn-primary mt-2"
        disabled={!behind.data || open > 0 || take.isPending}
        onClick={() => take.mutate(choices)}
      >
        {open > 0 ? `${open} still to choose` : `Bring up to release ${head.release}`}
      </button>
    </section>
  );
}
