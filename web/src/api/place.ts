import { useParams } from "react-router";

/** A Place is a state of an estate: a draft, "released", or "release-N". */
export interface Place {
  estate: string;
  draft: string;
}

/** The place that the address names. */
export function usePlace(): Place {
  const { estate = "", draft = "" } = useParams();
  return { estate, draft };
}

/** Where the pages of a place are. */
export const pageOf = (at: Place) => `/e/${at.estate}/d/${at.draft}`;

/** Where the API has a place. */
export const apiOf = (at: Place) => `/api/estates/${at.estate}/drafts/${at.draft}`;
