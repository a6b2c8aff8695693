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

const inEstate = (estate: string) => ({ path: { estate } });

export const useEstates = () =>
  useQuery({ queryKey: ["estates"], queryFn: () => answered(client.GET("/api/estates")) });

export const useEstate = (estate: string) =>
  useQuery({
    queryKey: [estate, "head"],
    queryFn: () => answered(client.GET("/api/estates/{estate}", { params: inEstate(estate) })),
  });

export const useSites = (estate: string) =>
  useQuery({
    queryKey: [estate, "sites"],
    queryFn: () => answered(client.GET("/api/estates/{estate}/sites", { params: inEstate(estate) })),
  });

export const useOverlays = (estate: string) =>
  useQuery({
    queryKey: [estate, "overlays"],
    queryFn: () => answered(client.GET("/api/estates/{estate}/overlays", { params: inEstate(estate) })),
  });

export const useFindings = (estate: string) =>
  useQuery({
    queryKey: [estate, "findings"],
    queryFn: () => answered(client.GET("/api/estates/{estate}/findings", { params: inEstate(estate) })),
  });

export const useSitePlan = (estate: string, site: string) =>
  useQuery({
    queryKey: [estate, "plan", site],
    queryFn: () =>
      answered(client.GET("/api/estates/{estate}/sites/{site}/plan", { params: { path: { estate, site } } })),
  });

/** After an edit everything derived may differ; its new head came as the answer. */
function refresh(queries: QueryClient, estate: string, head: EstateHead) {
  queries.setQueryData([estate, "head"], head);
  queries.invalidateQueries({ queryKey: [estate], predicate: (q) => q.queryKey[1] !== "head" });
  queries.invalidateQueries({ queryKey: ["estates"] });
}

function useEdit<Input>(estate: string, run: (input: Input) => Promise<EstateHead>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: run, onSuccess: (head) => refresh(queries, estate, head) });
}

const ifMatch = (revision?: number) => (revision ? { "If-Match": `"${revision}"` } : {});

export const useSaveSite = (estate: string) =>
  useEdit(estate, (input: { site: Site; revision?: number }) =>
    answered(
      client.PUT("/api/estates/{estate}/sites/{site}", {
        params: { path: { estate, site: input.site.key }, header: ifMatch(input.revision) },
        body: input.site,
      }),
    ),
  );

export const useDeleteSite = (estate: string) =>
  useEdit(estate, (site: string) =>
    answered(client.DELETE("/api/estates/{estate}/sites/{site}", { params: { path: { estate, site } } })),
  );

export const useSaveOverlay = (estate: string) =>
  useEdit(estate, (input: { overlay: Overlay; revision?: number }) =>
    answered(
      client.PUT("/api/estates/{estate}/overlays/{overlay}", {
        params: { path: { estate, overlay: input.overlay.key }, header: ifMatch(input.revision) },
        body: input.overlay,
      }),
    ),
  );

export const useDeleteOverlay = (estate: string) =>
  useEdit(estate, (overlay: string) =>
    answered(
      client.DELETE("/api/estates/{estate}/overlays/{overlay}", { params: { path: { estate, overlay } } }),
    ),
  );

export const useShare = (estate: string, overlay: string) =>
  useEdit(estate, (body: { zone: string; share: boolean; site?: string; all?: boolean }) =>
    answered(
      client.POST("/api/estates/{estate}/overlays/{overlay}/share", {
        params: { path: { estate, overlay } },
        body,
      }),
    ),
  );

export const useRepair = (estate: string) =>
  useEdit(estate, (body: Repair) =>
    answered(client.POST("/api/estates/{estate}/repairs", { params: inEstate(estate), body })),
  );

export const useSaveAbout = (estate: string) =>
  useEdit(estate, (input: { about: About; revision: number }) =>
    answered(
      client.PUT("/api/estates/{estate}/about", {
        params: { ...inEstate(estate), header: ifMatch(input.revision) },
        body: input.about,
      }),
    ),
  );

export const useImport = (estate: string) =>
  useEdit(estate, (input: { parcel: Parcel; request: string }) =>
    answered(
      client.POST("/api/estates/{estate}/import", {
        params: { ...inEstate(estate), header: { "Idempotency-Key": input.request } },
        body: input.parcel,
      }),
    ),
  );

export const usePreview = (estate: string) =>
  useMutation({
    mutationFn: (parcel: Parcel) =>
      answered(
        client.POST("/api/estates/{estate}/import/preview", { params: inEstate(estate), body: parcel }),
      ),
  });

export const useStep = (estate: string, way: "undo" | "redo") =>
  useEdit(estate, () => answered(client.POST(`/api/estates/{estate}/${way}`, { params: inEstate(estate) })));
