import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answered, client } from "./client";

/** How often a drill that goes on is asked for, in ms. */
const EVERY = 1000;

/** What a drill of a part would do. */
export const useForesight = (estate: string, part: string) =>
  useQuery({
    queryKey: ["drill-next", estate, part],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drills/next", {
          signal,
          params: { path: { estate }, query: { part } },
        }),
      ),
    enabled: part !== "",
    retry: false,
  });

/** The drills of an estate, the newest first. */
export const useDrills = (estate: string, on = true) =>
  useQuery({
    queryKey: ["drills", estate],
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/drills", { signal, params: { path: { estate } } })),
    enabled: on,
    refetchInterval: 5000,
  });

/** One drill with what was seen, each second while it goes on. */
export const useDrill = (estate: string, drill: number) =>
  useQuery({
    queryKey: ["drills", estate, drill],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drills/{drill}", { signal, params: { path: { estate, drill } } }),
      ),
    enabled: drill > 0,
    refetchInterval: (query) => (query.state.data?.ended_at ? false : EVERY),
  });

/** Where the sheet and the report of a drill are. */
export const drillFile = (estate: string, drill: number, name: "points.csv" | "report.html") =>
  `/api/estates/${estate}/drills/${drill}/${name}`;

function useAct<In, Out>(estate: string, act: (input: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSettled: () => queries.invalidateQueries({ queryKey: ["drills", estate] }),
  });
}

export const useStartDrill = (estate: string) =>
  useAct(
    estate,
    (body: {
      part: string;
      seconds: number;
      begins_at?: string;
      every?: "" | "week" | "month" | "quarter";
    }) => answered(client.POST("/api/estates/{estate}/drills", { params: { path: { estate } }, body })),
  );

export const useStopDrill = (estate: string) =>
  useAct(estate, (drill: number) =>
    answered(
      client.POST("/api/estates/{estate}/drills/{drill}/stop", { params: { path: { estate, drill } } }),
    ),
  );
