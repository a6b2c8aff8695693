import { type QueryClient, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  type About,
  answered,
  client,
  type EstateHead,
  type Overlay,
  type Parcel,
  type Repair,
  type Site,
} from "./client";
import type { Place } from "./place";

const inPlace = (at: Place) => ({ path: { ...at } });

export const useEstates = () =>
  useQuery({ queryKey: ["estates"], queryFn: () => answered(client.GET("/api/estates")) });

export const useEstate = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "head"],
    queryFn: () => answered(client.GET("/api/estates/{estate}/drafts/{draft}", { params: inPlace(at) })),
  });

/** Whether who looks may edit the place. */
export function useMayEdit(at: Place): boolean {
  const head = useEstate(at).data;
  return head !== undefined && !head.fixed && !head.discarded && head.role !== "reader";
}

export const useSites = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "sites"],
    queryFn: () =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/sites", { params: inPlace(at) })),
  });

export const useOverlays = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "overlays"],
    queryFn: () =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/overlays", { params: inPlace(at) })),
  });

export const useFindings = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "findings"],
    queryFn: () =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/findings", { params: inPlace(at) })),
  });

export const useSitePlan = (at: Place, site: string) =>
  useQuery({
    queryKey: [at.estate, at.draft, "plan", site],
    queryFn: () =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/sites/{site}/plan", {
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

function useEdit<Input>(at: Place, run: (input: Input) => Promise<EstateHead>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: run, onSuccess: (head) => refresh(queries, at, head) });
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
  useEdit(at, (input: { overlay: Overlay; revision?: number }) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}", {
        params: { path: { ...at, overlay: input.overlay.key }, header: ifMatch(input.revision) },
        body: input.overlay,
      }),
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
    queryFn: () => answered(client.GET("/api/me")),
    retry: false,
    staleTime: 60_000,
  });

export const useEntrance = () =>
  useQuery({
    queryKey: ["entrance"],
    queryFn: () => answered(client.GET("/api/entrance")),
    staleTime: Number.POSITIVE_INFINITY,
  });

/** An estate with its drafts. */
export const useCard = (estate: string) =>
  useQuery({
    queryKey: ["card", estate],
    queryFn: () => answered(client.GET("/api/estates/{estate}", { params: { path: { estate } } })),
  });

export const useReleases = (estate: string) =>
  useQuery({
    queryKey: ["card", estate, "releases"],
    queryFn: () => answered(client.GET("/api/estates/{estate}/releases", { params: { path: { estate } } })),
  });

/** What a draft changes, whole. */
export const useWeighing = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "weighing"],
    queryFn: () =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/consequences", { params: inPlace(at) })),
  });

export const useBehind = (at: Place, ask: boolean) =>
  useQuery({
    queryKey: [at.estate, at.draft, "behind"],
    queryFn: () =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/behind", { params: inPlace(at) })),
    enabled: ask,
  });

export const useSteps = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "steps"],
    queryFn: () =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/steps", {
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
