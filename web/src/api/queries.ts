import { type QueryClient, useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  type About,
  answered,
  client,
  type EstateHead,
  type Overlay,
  type Parcel,
  type Repair,
  type ShapedOverlay,
  type Site,
} from "./client";
import type { Place } from "./place";

export const inPlace = (at: Place) => ({ path: { ...at } });

export const useEstates = () =>
  useQuery({
    queryKey: ["estates"],
    queryFn: ({ signal }) => answered(client.GET("/api/estates", { signal })),
  });

export const useEstate = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "head"],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}", { signal, params: inPlace(at) })),
  });

/** Whether who looks may edit the place. */
export function useMayEdit(at: Place): boolean {
  const head = useEstate(at).data;
  return head !== undefined && !head.fixed && !head.discarded && head.role !== "reader";
}

export const useSites = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "sites"],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/sites", { signal, params: inPlace(at) })),
  });

export const useOverlays = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "overlays"],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/overlays", { signal, params: inPlace(at) })),
  });

export const useFindings = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "findings"],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/findings", { signal, params: inPlace(at) })),
  });

export const useSitePlan = (at: Place, site: string) =>
  useQuery({
    queryKey: [at.estate, at.draft, "plan", site],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/sites/{site}/plan", {
          signal,
          params: { path: { ...at, site } },
        }),
      ),
  });

/** After an edit everything derived may differ; its new head came as the answer. */
function refresh(queries: QueryClient, at: Place, head: EstateHead) {
  queries.setQueryData([at.estate, at.draft, "head"], head);
  queries.invalidateQueries({ queryKey: [at.estate, at.draft], predicate: (q) => q.queryKey[2] !== "head" });
  queries.invalidateQueries({ queryKey: ["estates"] });
  queries.invalidateQueries({ queryKey: ["card", at.estate] });
}

/** An edit of the draft. Known takes what it said into what pages hold, before they ask anew. */
export function useEdit<Input, Head extends EstateHead>(
  at: Place,
  run: (input: Input) => Promise<Head>,
  known?: (queries: QueryClient, head: EstateHead, input: Input) => void,
) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: run,
    onSuccess: (head, input) => {
      known?.(queries, head, input);
      refresh(queries, at, head);
    },
  });
}

const ifMatch = (revision?: number) => (revision ? { "If-Match": `"${revision}"` } : {});

export const useSaveSite = (at: Place) =>
  useEdit(at, (input: { site: Site; revision?: number }) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/sites/{site}", {
        params: { path: { ...at, site: input.site.key }, header: ifMatch(input.revision) },
        body: input.site,
      }),
    ),
  );

export const useDeleteSite = (at: Place) =>
  useEdit(at, (site: string) =>
    answered(
      client.DELETE("/api/estates/{estate}/drafts/{draft}/sites/{site}", {
        params: { path: { ...at, site } },
      }),
    ),
  );

export const useSaveOverlay = (at: Place) =>
  useEdit(
    at,
    (input: { overlay: Overlay; revision?: number }) =>
      answered(
        client.PUT("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}", {
          params: { path: { ...at, overlay: input.overlay.key }, header: ifMatch(input.revision) },
          body: input.overlay,
        }),
      ),
    // So that an edit that follows at once is based on this one, not refused for it.
    (queries, head, { overlay }) =>
      queries.setQueryData<ShapedOverlay[]>([at.estate, at.draft, "overlays"], (list) =>
        list?.map((o) => (o.key === overlay.key ? { ...o, ...overlay, revision: head.revision } : o)),
      ),
  );

export const useDeleteOverlay = (at: Place) =>
  useEdit(at, (overlay: string) =>
    answered(
      client.DELETE("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}", {
        params: { path: { ...at, overlay } },
      }),
    ),
  );

export const useShare = (at: Place, overlay: string) =>
  useEdit(at, (body: { zone: string; share: boolean; site?: string; all?: boolean }) =>
    answered(
      client.POST("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/share", {
        params: { path: { ...at, overlay } },
        body,
      }),
    ),
  );

export const useRepair = (at: Place) =>
  useEdit(at, (body: Repair) =>
    answered(client.POST("/api/estates/{estate}/drafts/{draft}/repairs", { params: inPlace(at), body })),
  );

export const useSaveAbout = (at: Place) =>
  useEdit(at, (input: { about: About; revision: number }) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/about", {
        params: { ...inPlace(at), header: ifMatch(input.revision) },
        body: input.about,
      }),
    ),
  );

export const useImport = (at: Place) =>
  useEdit(at, (input: { parcel: Parcel; request: string }) =>
    answered(
      client.POST("/api/estates/{estate}/drafts/{draft}/import", {
        params: { ...inPlace(at), header: { "Idempotency-Key": input.request } },
        body: input.parcel,
      }),
    ),
  );

export const usePreview = (at: Place) =>
  useMutation({
    mutationFn: (parcel: Parcel) =>
      answered(
        client.POST("/api/estates/{estate}/drafts/{draft}/import/preview", {
          params: inPlace(at),
          body: parcel,
        }),
      ),
  });

/** Takes back, or repeats, the step that the page shows, and no other. */
export const useStep = (at: Place, way: "undo" | "redo") =>
  useEdit(at, (revision: number | undefined) =>
    answered(
      client.POST(`/api/estates/{estate}/drafts/{draft}/${way}`, {
        params: { ...inPlace(at), header: ifMatch(revision) },
      }),
    ),
  );

/** Who is signed in; an error of status 401 when nobody is. */
export const useMe = () =>
  useQuery({
    queryKey: ["me"],
    queryFn: ({ signal }) => answered(client.GET("/api/me", { signal })),
    retry: false,
    staleTime: 60_000,
  });

export const useEntrance = () =>
  useQuery({
    queryKey: ["entrance"],
    queryFn: ({ signal }) => answered(client.GET("/api/entrance", { signal })),
    staleTime: Number.POSITIVE_INFINITY,
  });

/** An estate with its drafts. */
export const useCard = (estate: string) =>
  useQuery({
    queryKey: ["card", estate],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}", { signal, params: { path: { estate } } })),
  });

export const useReleases = (estate: string) =>
  useQuery({
    queryKey: ["card", estate, "releases"],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/releases", { signal, params: { path: { estate } } })),
  });

/** What a draft changes, whole. */
export const useWeighing = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "weighing"],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/consequences", { signal, params: inPlace(at) }),
      ),
  });

export const useBehind = (at: Place, ask: boolean) =>
  useQuery({
    queryKey: [at.estate, at.draft, "behind"],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/behind", { signal, params: inPlace(at) })),
    enabled: ask,
  });

export const useSteps = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "steps"],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/steps", {
          signal,
          params: { ...inPlace(at), query: { limit: 200 } },
        }),
      ),
  });

export const useCatchUp = (at: Place) =>
  useEdit(at, (choices: Record<string, string>) =>
    answered(
      client.POST("/api/estates/{estate}/drafts/{draft}/catch-up", {
        params: inPlace(at),
        body: { choices },
      }),
    ),
  );

export const ask = <T>(
  at: Place,
  name: unknown[],
  queryFn: (context: { signal: AbortSignal }) => Promise<T>,
) => ({
  queryKey: [at.estate, at.draft, ...name],
  queryFn,
});

export const useSpace = (at: Place, within: string) =>
  useQuery({
    ...ask(at, ["space", within], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/space", {
          signal,
          params: { ...inPlace(at), query: within ? { within } : {} },
        }),
      ),
    ),
    placeholderData: (before) => before,
  });

export const useRoom = (at: Place, bits: number, region: string, ipv6: boolean) =>
  useQuery({
    ...ask(at, ["room", bits, region, ipv6], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/room", {
          signal,
          params: { ...inPlace(at), query: { bits, region, ipv6 } },
        }),
      ),
    ),
    enabled: bits > 0,
  });

export const useReserve = (at: Place) =>
  useEdit(at, (body: { prefix: string; for: string }) =>
    answered(client.PUT("/api/estates/{estate}/drafts/{draft}/reserved", { params: inPlace(at), body })),
  );

/** What repairs would change, before they are carried out. */
export const useWeighRepairs = (at: Place, repairs: Repair[]) =>
  useQuery({
    ...ask(at, ["weigh", repairs.map((r) => r.label)], ({ signal }) =>
      answered(
        client.POST("/api/estates/{estate}/drafts/{draft}/repairs/weigh", {
          signal,
          params: inPlace(at),
          body: { repairs },
        }),
      ),
    ),
    enabled: repairs.length > 0,
  });

export const useRepairAll = (at: Place) =>
  useEdit(at, (repairs: Repair[]) =>
    answered(
      client.POST("/api/estates/{estate}/drafts/{draft}/repairs/all", {
        params: inPlace(at),
        body: { repairs },
      }),
    ),
  );

export const inOverlay = (at: Place, overlay: string) => ({ path: { ...at, overlay } });

export const useLoom = (at: Place, overlay: string) =>
  useQuery(
    ask(at, ["loom", overlay], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/loom", {
          signal,
          params: inOverlay(at, overlay),
        }),
      ),
    ),
  );

/** A part of the loom, by the number of its first row and column. */
export interface LoomTile {
  row: number;
  rows: number;
  column: number;
  columns: number;
}

/** The pairs in some parts of the loom; undefined where they are not here yet. */
export const useLoomTiles = (at: Place, overlay: string, tiles: LoomTile[]) =>
  useQueries({
    queries: tiles.map((tile) =>
      ask(at, ["loom", overlay, tile], ({ signal }) =>
        answered(
          client.GET("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/loom/window", {
            signal,
            params: { path: { ...at, overlay }, query: { ...tile } },
          }),
        ),
      ),
    ),
    combine: (answers) => answers.map((a) => a.data?.pairs),
  });

export const usePair = (at: Place, overlay: string, a: string, b: string) =>
  useQuery(
    ask(at, ["pair", overlay, a, b], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/pairs/{a}/{b}", {
          signal,
          params: { path: { ...at, overlay, a, b } },
        }),
      ),
    ),
  );

export const useHubOrder = (at: Place, overlay: string) =>
  useEdit(at, (body: { sites: string[]; hubs: string[] }) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/hub-order", {
        params: inOverlay(at, overlay),
        body,
      }),
    ),
  );

export const useTunnelOrder = (at: Place, overlay: string, a: string, b: string) =>
  useEdit(at, (first: string[]) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/pairs/{a}/{b}/order", {
        params: { path: { ...at, overlay, a, b } },
        body: { first },
      }),
    ),
  );

export const useDirect = (at: Place, overlay: string, a: string, b: string) =>
  useEdit(at, (join: boolean) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/pairs/{a}/{b}/direct", {
        params: { path: { ...at, overlay, a, b } },
        body: { join },
      }),
    ),
  );

export const useBothEnds = (at: Place, overlay: string, tunnel: string) =>
  useQuery(
    ask(at, ["both-ends", overlay, tunnel], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/both-ends", {
          signal,
          params: { ...inPlace(at), query: { overlay, tunnel } },
        }),
      ),
    ),
  );

export const useCheckKey = (at: Place, site: string) =>
  useMutation({
    mutationFn: (key: string) =>
      answered(
        client.POST("/api/estates/{estate}/drafts/{draft}/sites/{site}/check-key", {
          params: { path: { ...at, site } },
          body: { key },
        }),
      ),
  });

export interface PacketQuery {
  from: string;
  to: string;
  protocol?: "tcp" | "udp" | "icmp";
  port?: number;
  fail?: string[];
}

export const useFollow = (at: Place, packet: PacketQuery | undefined) =>
  useQuery({
    ...ask(at, ["follow", packet], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/follow", {
          signal,
          params: { ...inPlace(at), query: packet as PacketQuery },
        }),
      ),
    ),
    enabled: packet !== undefined,
    retry: false,
  });

export const useFind = (at: Place, text: string) =>
  useQuery({
    ...ask(at, ["find", text], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/find", {
          signal,
          params: { ...inPlace(at), query: { q: text } },
        }),
      ),
    ),
    enabled: text.trim() !== "",
    placeholderData: (before) => before,
  });

export const useBeforeAfter = (at: Place, site: string) =>
  useQuery(
    ask(at, ["before-after", site], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/sites/{site}/before-after", {
          signal,
          params: { path: { ...at, site } },
        }),
      ),
    ),
  );

/** A new site after the pattern of another, to be completed. */
export const usePattern = (at: Place) =>
  useMutation({
    mutationFn: (site: string) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/sites/{site}/pattern", {
          params: { path: { ...at, site } },
        }),
      ),
  });

export const useAddLike = (at: Place) =>
  useEdit(at, (input: { site: Site; pattern: string }) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/sites/{site}/like/{pattern}", {
        params: { path: { ...at, site: input.site.key, pattern: input.pattern } },
        body: input.site,
      }),
    ),
  );
