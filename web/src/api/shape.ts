import { useQueries, useQuery } from "@tanstack/react-query";
import { answered, client, type Overlay, type ShapedOverlay } from "./client";
import type { Place } from "./place";
import { ask, ifMatch, inPlace, useEdit } from "./queries";

export const useOverlays = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "overlays"],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/overlays", { signal, params: inPlace(at) })),
  });

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
