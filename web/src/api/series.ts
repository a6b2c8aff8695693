import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { answered, client } from "./client";

/** A time, in seconds since 1970. */
export interface Span {
  from: number;
  to: number;
}

/** One end of a tunnel, a WAN link, or what carried packets to another site. */
export type Subject = { site: string } & ({ interface: string } | { link: string } | { other: string });

const text = (seconds: number) => new Date(seconds * 1000).toISOString();

/** What was measured of a tunnel or of a link. */
export const useSeries = (estate: string, subject: Subject | undefined, span: Span) =>
  useQuery({
    queryKey: ["series", estate, subject, span],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/series", {
          signal,
          params: { path: { estate }, query: seriesQuery(subject as Subject, span) },
        }),
      ),
    enabled: subject !== undefined && !("other" in subject),
    placeholderData: (before, query) =>
      JSON.stringify(query?.queryKey[2]) === JSON.stringify(subject) ? before : undefined,
    retry: false,
  });

interface SeriesQuery {
  site: string;
  interface?: string;
  link?: string;
  from: string;
  to: string;
}

function seriesQuery(subject: Subject, span: Span): SeriesQuery {
  const time = { site: subject.site, from: text(span.from), to: text(span.to) };
  return "interface" in subject
    ? { ...time, interface: subject.interface }
    : { ...time, link: "link" in subject ? subject.link : "" };
}

/** Where the sheet of a series is. */
export const sheetOf = (estate: string, subject: Subject, span: Span) =>
  `/api/estates/${estate}/series.csv?${new URLSearchParams({ ...seriesQuery(subject, span) })}`;

/** Which tunnels carried packets from a site to another, and when. */
export const useCarried = (estate: string, subject: Subject | undefined, span: Span) =>
  useQuery({
    queryKey: ["carried", estate, subject, span],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/carried", {
          signal,
          params: {
            path: { estate },
            query: {
              site: subject?.site ?? "",
              other: subject && "other" in subject ? subject.other : "",
              from: text(span.from),
              to: text(span.to),
            },
          },
        }),
      ),
    enabled: subject !== undefined && "other" in subject,
    placeholderData: keepPreviousData,
    retry: false,
  });
