import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answered, client, type ListenerOrder, type MaintenanceWindow } from "./client";

/** A window that somebody announces. */
export type WindowOrder = Pick<MaintenanceWindow, "site" | "begins_at" | "minutes" | "every" | "words">;

/** How many events a page has, and how often the newest are asked for, in ms. */
const PAGE = 100;
const EVERY = 3000;

export interface EventQuery {
  kind: "" | "began" | "ended" | "joined";
  site: string;
  before: number;
}

/** What was not as designed, newest first. */
export const useEvents = (estate: string, query: EventQuery) =>
  useQuery({
    queryKey: ["events", estate, query],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/events", {
          signal,
          params: {
            path: { estate },
            query: {
              most: PAGE,
              ...(query.kind ? { kind: query.kind } : {}),
              ...(query.site ? { site: query.site } : {}),
              ...(query.before ? { before: query.before } : {}),
            },
          },
        }),
      ),
    refetchInterval: query.before ? false : EVERY,
    placeholderData: keepPreviousData,
  });

/** Whether there may be earlier events than those of a page. */
export const isFull = (events: unknown[]) => events.length === PAGE;

/** Who is told of events. */
export const useListeners = (estate: string, on: boolean) =>
  useQuery({
    queryKey: ["listeners", estate],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/listeners", { signal, params: { path: { estate } } })),
    enabled: on,
  });

/** Windows of maintenance that are not over for good. */
export const useWindows = (estate: string) =>
  useQuery({
    queryKey: ["windows", estate],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/windows", { signal, params: { path: { estate } } })),
    refetchInterval: 30_000,
  });

function useAct<In, Out>(estate: string, act: (input: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSettled: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["listeners", estate] }),
        queries.invalidateQueries({ queryKey: ["windows", estate] }),
      ]),
  });
}

export const useAddWindow = (estate: string) =>
  useAct(estate, (body: WindowOrder) =>
    answered(client.POST("/api/estates/{estate}/windows", { params: { path: { estate } }, body })),
  );

export const useDropWindow = (estate: string) =>
  useAct(estate, (window: number) =>
    answered(
      client.DELETE("/api/estates/{estate}/windows/{window}", { params: { path: { estate, window } } }),
    ),
  );

export const useAddListener = (estate: string) =>
  useAct(estate, (body: ListenerOrder) =>
    answered(client.POST("/api/estates/{estate}/listeners", { params: { path: { estate } }, body })),
  );

export const useDropListener = (estate: string) =>
  useAct(estate, (listener: number) =>
    answered(
      client.DELETE("/api/estates/{estate}/listeners/{listener}", { params: { path: { estate, listener } } }),
    ),
  );
