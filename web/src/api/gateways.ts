import {
  keepPreviousData,
  type QueryClient,
  useMutation,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { answered, client, type GatewayList, type GatewayRow, Problem } from "./client";
import type { Place } from "./place";
import { ask, inPlace, useEdit } from "./queries";
import type { operations } from "./schema";

const listKey = (estate: string) => ["gateways", estate];

/** How often pages that hear no events ask, and how often one gateway is asked for, in ms. */
const EVERY = 2000;

/** The gateways that joined; events keep the list current where a draft is open. */
export const useGateways = (estate: string, hears = true) =>
  useQuery({
    queryKey: listKey(estate),
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/gateways", { signal, params: { path: { estate } } })),
    refetchInterval: hears ? 30_000 : EVERY,
  });

/** Takes rows that changed into what pages know. */
export function hearGateways(queries: QueryClient, estate: string, rows: GatewayRow[]) {
  queries.setQueryData<GatewayList>(listKey(estate), (known) => {
    if (!known) {
      return known;
    }
    const changed = new Map(rows.map((r) => [r.site, r]));
    const kept = known.gateways.map((g) => changed.get(g.site) ?? g);
    const fresh = rows.filter((r) => !known.gateways.some((g) => g.site === r.site));
    return { ...known, gateways: [...kept, ...fresh].sort((a, b) => (a.site < b.site ? -1 : 1)) };
  });
  queries.invalidateQueries({ queryKey: ["now", estate] });
  for (const r of rows) {
    queries.invalidateQueries({ queryKey: [...listKey(estate), r.site] });
  }
}

/** What is not as designed at present; events of gateways have it asked for anew. */
export const useNow = (estate: string) =>
  useQuery({
    queryKey: ["now", estate],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/now", { signal, params: { path: { estate } } })),
    refetchInterval: 5000,
  });

/** How each pair of an overlay is joined at present, with the sites of a region where rows are regions. */
export const useLiveLoom = (estate: string, overlay: string, region: string) =>
  useQuery({
    queryKey: ["now", estate, "loom", overlay, region],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/loom", {
          signal,
          params: { path: { estate }, query: { overlay, region } },
        }),
      ),
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
    retry: false,
  });

/** The ends of tunnels of which a page wants to know; all where nothing is given. */
export type Ends = NonNullable<operations["get-gateway"]["parameters"]["query"]>;

/** As many of some ends as a page lists. */
export const endsShown = (of: Ends): Ends => ({ ...of, most: 200 });

/** What is asked for, without the words: while those are typed, what was there stays. */
const aside = (key: readonly unknown[]) =>
  JSON.stringify(key, (name, v) => (name === "words" ? undefined : v));

/** One gateway with its links, and some ends of its tunnels; null where none has joined for the site. */
export const useGateway = (estate: string, site: string, on = true, ends = endsShown({})) =>
  useQuery({
    queryKey: [...listKey(estate), site, ends],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/gateways/{site}", {
          signal,
          params: { path: { estate, site }, query: ends },
        }),
      ).catch((error) => {
        if (error instanceof Problem && error.status === 404) return null;
        throw error;
      }),
    placeholderData: (before, query) =>
      query && aside(query.queryKey) === aside([...listKey(estate), site, ends]) ? before : undefined,
    enabled: on && site !== "",
    refetchInterval: EVERY,
    retry: false,
  });

/** Something done to gateways; the list is asked for anew. */
function useAct<In, Out>(estate: string, act: (input: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSettled: () => queries.invalidateQueries({ queryKey: listKey(estate) }),
  });
}

export const useJoinCode = (estate: string, site: string) =>
  useAct(estate, (hours: number) =>
    answered(
      client.POST("/api/estates/{estate}/gateways/{site}/code", {
        params: { path: { estate, site } },
        body: { hours },
      }),
    ),
  );

export const useWithdrawCode = (estate: string, site: string) =>
  useAct(estate, () =>
    answered(
      client.DELETE("/api/estates/{estate}/gateways/{site}/code", { params: { path: { estate, site } } }),
    ),
  );

export const useBar = (estate: string, site: string) =>
  useAct(estate, (barred: boolean) =>
    answered(
      client.PUT("/api/estates/{estate}/gateways/{site}/barred", {
        params: { path: { estate, site } },
        body: { barred },
      }),
    ),
  );

export const usePutBack = (estate: string, site: string) =>
  useAct(estate, (digest: string) =>
    answered(
      client.POST("/api/estates/{estate}/gateways/{site}/put-back", {
        params: { path: { estate, site } },
        body: { digest },
      }),
    ),
  );

export const useBring = (estate: string) =>
  useAct(estate, (body: { release: number; sites?: string[] }) =>
    answered(client.POST("/api/estates/{estate}/gateways-bring", { params: { path: { estate } }, body })),
  );

/** What gateways offer to a draft; of all sites with an empty one. */
export const useOffers = (at: Place, site: string, on = true) =>
  useQuery({
    ...ask(at, ["offers", site], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/offers", {
          signal,
          params: { ...inPlace(at), query: site ? { site } : {} },
        }),
      ),
    ),
    enabled: on,
  });

export const useTakeOffers = (at: Place, site: string) =>
  useEdit(at, (offers: string[]) =>
    answered(
      client.POST("/api/estates/{estate}/drafts/{draft}/sites/{site}/offers", {
        params: { path: { ...at, site } },
        body: { offers },
      }),
    ),
  );

/** What somebody set by hand at a gateway, into the draft. */
export const useTakeDrift = (at: Place, site: string) =>
  useEdit(at, () =>
    answered(
      client.POST("/api/estates/{estate}/drafts/{draft}/sites/{site}/drift", {
        params: { path: { ...at, site } },
      }),
    ),
  );

/** New keys of some gateways, of all that are there with none, into the draft. */
export const useNewKeys = (at: Place) =>
  useEdit(at, (sites: string[]) =>
    answered(
      client.POST("/api/estates/{estate}/drafts/{draft}/new-keys", {
        params: { path: { ...at } },
        body: sites.length > 0 ? { sites } : {},
      }),
    ),
  );

export function useRefuseOffer(at: Place, site: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { offer: string; reason: string }) =>
      answered(
        client.PUT("/api/estates/{estate}/gateways/{site}/refusals", {
          params: { path: { estate: at.estate, site } },
          body,
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: [at.estate, at.draft, "offers"] }),
  });
}

/** How a gateway stands, worst first: a mark, words, and an order. */
export interface Stand {
  mark: "error" | "warning" | "note" | "";
  words: string;
  order: number;
}

export function standOf(g: GatewayRow): Stand {
  const stand = (mark: Stand["mark"], order: number, words: string): Stand => ({ mark, order, words });
  if (g.barred_at) {
    return stand("note", 8, "barred");
  }
  if (g.doubled_at) {
    return stand("error", 0, "two machines have its certificate");
  }
  if (!g.up) {
    return stand("error", 1, "away");
  }
  if (g.dead_ways > 0) {
    return stand("error", 2, `${g.dead_ways} of its ways lead nowhere`);
  }
  if (g.phase === "went-back" || g.phase === "failed") {
    return stand("error", 2, g.phase === "failed" ? "refused the release" : "went back");
  }
  if (g.differs || g.phase === "differs") {
    return stand("warning", 3, "differs from what was confirmed");
  }
  if (g.phase === "version") {
    return stand("warning", 3, "speaks another version");
  }
  const dead = g.dead === 1 ? "a tunnel is dead" : `${g.dead} tunnels are dead`;
  if (g.down_links > 0) {
    const silent = g.down_links === 1 ? "a WAN link is silent" : `${g.down_links} WAN links are silent`;
    return stand("warning", 4, g.dead > 0 ? `${silent}, ${dead}` : silent);
  }
  if (g.dead > 0) {
    return stand("warning", 5, dead);
  }
  if (Math.abs(g.clock_ms) >= CLOCK) {
    return stand("warning", 6, `its clock is ${clockText(g.clock_ms)}`);
  }
  if (g.phase === "trying" || g.phase === "sending") {
    return stand("note", 7, `release ${g.wanted} is being tried`);
  }
  if (g.confirmed === 0) {
    return stand("note", 7, "joined, runs nothing yet");
  }
  return stand("", 9, "as confirmed");
}

/** From where on a clock is said to be wrong, in ms; times come in whole seconds. */
const CLOCK = 3000;

export function clockText(ms: number): string {
  const seconds = Math.round(Math.abs(ms) / 1000);
  const text = seconds < 120 ? `${seconds} s` : `${Math.round(seconds / 60)} min`;
  return `${text} ${ms > 0 ? "fast" : "slow"}`;
}
