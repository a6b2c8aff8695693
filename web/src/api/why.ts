import { useQuery } from "@tanstack/react-query";
import { answered, client } from "./client";

/** Two addresses, or sites, between which a packet does not arrive. */
export interface WhyQuery {
  from: string;
  to: string;
  protocol?: "tcp" | "udp" | "icmp";
  port?: number;
}

/** Why a packet does not arrive, by what gateways reported last; asked anew every so many ms. */
export const useWhy = (estate: string, query: WhyQuery | undefined, every?: number) =>
  useQuery({
    queryKey: ["why", estate, query],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/why", {
          signal,
          params: { path: { estate }, query: query as WhyQuery },
        }),
      ),
    enabled: query !== undefined,
    refetchInterval: every ?? false,
    retry: false,
    staleTime: 0,
  });

/** The same, once gateways have looked; it takes some seconds. */
export const useWhyLooked = (estate: string, query: WhyQuery | undefined, on: boolean) =>
  useQuery({
    queryKey: ["why-looked", estate, query],
    queryFn: ({ signal }) =>
      answered(
        client.POST("/api/estates/{estate}/why", {
          signal,
          params: { path: { estate } },
          body: query as WhyQuery,
        }),
      ),
    enabled: on && query !== undefined,
    retry: false,
    staleTime: 60_000,
    refetchOnWindowFocus: false,
  });
