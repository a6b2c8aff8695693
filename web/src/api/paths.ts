import { useMutation, useQuery } from "@tanstack/react-query";
import { answered, client } from "./client";
import type { Place } from "./place";
import { ask, inPlace } from "./queries";

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
