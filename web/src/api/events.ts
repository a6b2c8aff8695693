import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answered, client, type ListenerOrder } from "./client";

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

function useAct<In, Out>(estate: string, act: (input: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSettled: () => queries.invalidateQueries({ queryKey: ["listeners", estate] }),
  });
}

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
