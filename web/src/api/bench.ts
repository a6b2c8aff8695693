import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answered, client } from "./client";

/** A tunnel by its interface at a site's gateway. */
export interface BenchOrder {
  site: string;
  interface: string;
}

/** How a tunnel would be loaded, and whether a window is open in which it may be. */
export const useBenchNext = (estate: string, query: BenchOrder | undefined) =>
  useQuery({
    queryKey: ["bench", estate, query],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/benches/next", {
          signal,
          params: { path: { estate }, query: query as BenchOrder },
        }),
      ),
    enabled: query !== undefined,
    refetchInterval: 10_000,
    retry: false,
  });

/** What tunnels from or towards a site bore. */
export const useBenches = (estate: string, site: string) =>
  useQuery({
    queryKey: ["benches", estate, site],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/benches", {
          signal,
          params: { path: { estate }, query: { site } },
        }),
      ),
    enabled: site !== "",
  });

/** Loads a tunnel; it takes half a minute. */
export function useBench(estate: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: BenchOrder) =>
      answered(client.POST("/api/estates/{estate}/benches", { params: { path: { estate } }, body })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["benches", estate] }),
  });
}
