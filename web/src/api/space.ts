import { useMutation, useQuery } from "@tanstack/react-query";
import { answered, client, type Site } from "./client";
import type { Place } from "./place";
import { ask, inPlace, useEdit } from "./queries";

export const useSpace = (at: Place, within: string) =>
  useQuery({
    ...ask(at, ["space", within], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/space", {
          signal,
          params: { ...inPlace(at), query: within ? { within } : {} },
        }),
      ),
    ),
    placeholderData: (before) => before,
  });

export const useRoom = (at: Place, bits: number, region: string, ipv6: boolean) =>
  useQuery({
    ...ask(at, ["room", bits, region, ipv6], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/room", {
          signal,
          params: { ...inPlace(at), query: { bits, region, ipv6 } },
        }),
      ),
    ),
    enabled: bits > 0,
  });

export const useReserve = (at: Place) =>
  useEdit(at, (body: { prefix: string; for: string }) =>
    answered(client.PUT("/api/estates/{estate}/drafts/{draft}/reserved", { params: inPlace(at), body })),
  );

/** A new site after the pattern of another, to be completed. */
export const usePattern = (at: Place) =>
  useMutation({
    mutationFn: (site: string) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/sites/{site}/pattern", {
          params: { path: { ...at, site } },
        }),
      ),
  });

export const useAddLike = (at: Place) =>
  useEdit(at, (input: { site: Site; pattern: string }) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/sites/{site}/like/{pattern}", {
        params: { path: { ...at, site: input.site.key, pattern: input.pattern } },
        body: input.site,
      }),
    ),
  );
