import { type QueryClient, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type About, answered, client, type EstateHead, type Parcel, type Repair, type Site } from "./client";
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

export const useFindings = (at: Place) =>
  useQuery({
    queryKey: [at.estate, at.draft, "findings"],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/drafts/{draft}/findings", { signal, params: inPlace(at) })),
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

/** The header by which an edit holds for one revision alone. */
export const ifMatch = (revision?: number) => (revision ? { "If-Match": `"${revision}"` } : {});

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
