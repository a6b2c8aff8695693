import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { EstateHead, GatewayRow, Presence, Step, Tally } from "./client";
import { hearGateways } from "./gateways";
import { apiOf, type Place } from "./place";

/** What the stream of a draft's events tells. */
export interface Live {
  /** False while the stream is broken; undefined before it was ever open. */
  joined?: boolean;
  tally?: Tally;
  people: Presence[];
  /** The latest step that somebody took since the page was opened. */
  step?: Step;
}

/**
 * Listens to what happens to a draft, and has what it changes loaded again.
 * The browser joins the stream again by itself after a gap, and is told what
 * it missed.
 */
export function useLive(at: Place, on: boolean): Live {
  const queries = useQueryClient();
  const [live, setLive] = useState<Live>({ people: [] });
  const { estate, draft } = at;
  useEffect(() => {
    setLive({ people: [] });
    if (!on) {
      return;
    }
    const stream = new EventSource(`${apiOf({ estate, draft })}/events`);
    const known = () => queries.getQueryData<EstateHead>([estate, draft, "head"]);
    const reload = () => {
      queries.invalidateQueries({ queryKey: [estate, draft] });
      queries.invalidateQueries({ queryKey: ["card", estate] });
    };
    const listen = <T>(kind: string, then: (data: T) => void) =>
      stream.addEventListener(kind, (e) => then(JSON.parse((e as MessageEvent<string>).data)));
    stream.onopen = () => setLive((l) => ({ ...l, joined: true }));
    stream.onerror = () => setLive((l) => ({ ...l, joined: false }));
    listen<Step>("step", (step) => {
      setLive((l) => ({ ...l, step }));
      const head = known();
      if (!head || step.revision > head.revision) {
        reload();
      }
    });
    listen<Tally>("consequences", (tally) => {
      setLive((l) => ({ ...l, tally }));
      const head = known();
      if (
        head &&
        (tally.revision > head.revision || tally.release !== head.release || tally.base !== head.base)
      ) {
        reload();
      } else {
        if (head && !head.settled) {
          queries.invalidateQueries({ queryKey: [estate, draft, "head"] });
        }
        queries.invalidateQueries({ queryKey: [estate, draft, "weighing"] });
      }
    });
    listen<Presence[]>("people", (people) => setLive((l) => ({ ...l, people })));
    listen<GatewayRow[]>("gateways", (rows) => hearGateways(queries, estate, rows));
    listen<null>("lost", reload);
    return () => stream.close();
  }, [estate, draft, on, queries]);
  return live;
}
