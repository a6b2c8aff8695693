import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type EstateHead = components["schemas"]["EstateHead"];
export type Site = components["schemas"]["Site"];
export type LedgerSite = components["schemas"]["LedgerSite"];
export type Link = components["schemas"]["Link"];
export type Subnet = components["schemas"]["Subnet"];
export type Region = components["schemas"]["Region"];
export type About = components["schemas"]["About"];
export type Overlay = components["schemas"]["Overlay"];
export type ShapedOverlay = components["schemas"]["ShapedOverlay"];
export type Finding = components["schemas"]["StagedFinding"];
export type Subject = components["schemas"]["Subject"];
export type Repair = components["schemas"]["Repair"];
export type SitePlan = components["schemas"]["SitePlan"];
export type SiteTunnel = components["schemas"]["SiteTunnel"];
export type SiteRoute = components["schemas"]["SiteRoute"];
export type ImportPreview = components["schemas"]["ImportPreview"];
export type Parcel = components["schemas"]["Parcel"];
export type Mend = components["schemas"]["Mend"];
export type Sheets = components["schemas"]["Sheets"];
type ProblemDocument = components["schemas"]["ErrorModel"];

export const client = createClient<paths>();

/** A Problem is what went wrong with a request, as RFC 9457 says it. */
export class Problem extends Error {
  readonly status: number;
  /** Messages by the field they belong to, such as links[0].mtu. */
  readonly fields: Record<string, string>;

  constructor(document: Partial<ProblemDocument> | undefined, status: number) {
    super(document?.detail ?? document?.title ?? `The server answered with ${status}.`);
    this.status = status;
    this.fields = {};
    for (const e of document?.errors ?? []) {
      const at = (e.location ?? "").replace(/^body\.?/, "");
      this.fields[at] ??= e.message ?? "";
    }
  }
}

/** Unwraps an answer, or throws its Problem. */
export async function answered<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let result: { data?: T; error?: unknown; response: Response };
  try {
    result = await call;
  } catch {
    throw new Problem(
      { detail: "The server cannot be reached. What you entered is still here; try again when it is back." },
      0,
    );
  }
  if (!result.response.ok) {
    throw new Problem(result.error as ProblemDocument, result.response.status);
  }
  return result.data as T;
}
