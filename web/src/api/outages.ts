import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { answered, client, type Limits, type LinkChoice, type PartKind } from "./client";
import type { Place } from "./place";
import { ask, inPlace, useEdit } from "./queries";
import { inOverlay } from "./shape";

export type Degree = "" | "dead" | "slow" | "lossy";

export const useOutages = (at: Place, kinds: PartKind[], degree: Degree, limit: number, together: boolean) =>
  useQuery({
    ...ask(at, ["outages", kinds, degree, limit, together], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/outages", {
          signal,
          params: { path: { ...at }, query: { kind: kinds, degree, limit, together } },
        }),
      ),
    ),
    placeholderData: keepPreviousData,
  });

export const useOutage = (at: Place, fail: string[]) =>
  useQuery({
    ...ask(at, ["outage", fail], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/outages/state", {
          signal,
          params: { path: { ...at }, query: { fail } },
        }),
      ),
    ),
    enabled: fail.length > 0,
  });

export const useCourse = (at: Place, fail: string[], a: string, b: string) =>
  useQuery({
    ...ask(at, ["course", fail, a, b], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/outages/timeline", {
          signal,
          params: { path: { ...at }, query: { fail, a, b } },
        }),
      ),
    ),
    enabled: fail.length > 0 && a !== "" && b !== "" && a !== b,
  });

export const useStanding = (at: Place) =>
  useQuery(
    ask(at, ["standing"], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/outages/standing", { signal, params: inPlace(at) }),
      ),
    ),
  );

/** Compared with another draft or release; asked for anew each time, as the other may have changed. */
export const useOutageChanges = (at: Place, against: string) =>
  useQuery({
    ...ask(at, ["outage-changes", against], ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/drafts/{draft}/outages/changes", {
          signal,
          params: { path: { ...at }, query: against ? { against } : {} },
        }),
      ),
    ),
    refetchOnMount: "always",
  });

export const useRankLinks = (at: Place) =>
  useEdit(at, (body: { sites: string[]; first: LinkChoice[] }) =>
    answered(client.PUT("/api/estates/{estate}/drafts/{draft}/link-order", { params: inPlace(at), body })),
  );

export const useLimitLinks = (at: Place) =>
  useEdit(at, (body: { sites: string[]; link: string; zones: string[] }) =>
    answered(client.PUT("/api/estates/{estate}/drafts/{draft}/link-zones", { params: inPlace(at), body })),
  );

export const useShed = (at: Place) =>
  useEdit(at, (zones: string[]) =>
    answered(
      client.PUT("/api/estates/{estate}/drafts/{draft}/shed", { params: inPlace(at), body: { zones } }),
    ),
  );

export const useProbe = (at: Place) =>
  useEdit(
    at,
    (input: {
      overlay: string;
      probe: {
        interval_ms: number;
        misses: number;
        successes: number;
        timeout_ms: number;
        target: "far-end" | "far-lan";
        limits?: Limits;
      };
    }) =>
      answered(
        client.PUT("/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/probe", {
          params: inOverlay(at, input.overlay),
          body: input.probe,
        }),
      ),
  );
