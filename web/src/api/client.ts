import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type EstateHead = components["schemas"]["EstateHead"];
export type Site = components["schemas"]["Site"];
export type LedgerSite = components["schemas"]["LedgerSite"];
export type Link = components["schemas"]["Link"];
export type Subnet = components["schemas"]["Subnet"];
export type Region = components["schemas"]["Region"];
export type About = components["schemas"]["About"];
export type Rule = components["schemas"]["Rule"];
export type Pin = components["schemas"]["Pin"];
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
export type Fix = components["schemas"]["Fix"];
export type Sheets = components["schemas"]["Sheets"];
export type Summary = components["schemas"]["Summary"];
export type EstateCard = components["schemas"]["EstateCard"];
export type DraftSummary = components["schemas"]["DraftSummary"];
export type ReleaseSummary = components["schemas"]["ReleaseSummary"];
export type Step = components["schemas"]["Step"];
export type Tally = components["schemas"]["Tally"];
export type RulerLine = components["schemas"]["Line"];
export type RulerBar = components["schemas"]["Bar"];
export type Weighing = components["schemas"]["Weighing"];
export type Consequences = components["schemas"]["Consequences"];
export type Presence = components["schemas"]["Presence"];
export type Conflict = components["schemas"]["Conflict"];
export type Role = Summary["role"];
export type Person = components["schemas"]["Person"];
export type AccountLine = components["schemas"]["AccountLine"];
export type OpenSession = components["schemas"]["OpenSession"];
export type APIToken = components["schemas"]["APIToken"];
export type AuditLine = components["schemas"]["AuditLine"];
export type Space = components["schemas"]["Space"];
export type Held = components["schemas"]["Held"];
export type Loom = components["schemas"]["Loom"];
export type LoomRow = components["schemas"]["LoomRow"];
export type LoomBand = components["schemas"]["LoomBand"];
export type LoomPair = components["schemas"]["LoomPair"];
export type PairSheet = components["schemas"]["PairSheet"];
export type BothEnds = components["schemas"]["BothEnds"];
export type Followed = components["schemas"]["Followed"];
export type WhyAnswer = components["schemas"]["WhyAnswer"];
export type MaintenanceWindow = components["schemas"]["Window"];
export type WatchEvent = components["schemas"]["Event"];
export type ListenerOrder = components["schemas"]["ListenerOrder"];
export type Now = components["schemas"]["Now"];
export type TunnelSessions = components["schemas"]["Sessions"];
export type LiveLoom = components["schemas"]["LiveLoom"];
export type LiveRow = components["schemas"]["LiveRow"];
export type LiveCell = components["schemas"]["LiveCell"];
export type Trouble = components["schemas"]["Trouble"];
export type WhyStep = components["schemas"]["PathStep"];
export type WhyCause = components["schemas"]["Cause"];
export type Series = components["schemas"]["Series"];
export type Carried = components["schemas"]["Carried"];
export type BenchRun = components["schemas"]["BenchRun"];
export type Drill = components["schemas"]["Drill"];
export type DrillDetail = components["schemas"]["Detail"];
export type WalkSheet = components["schemas"]["WalkSheet"];
export type Hit = components["schemas"]["Hit"];
export type BareFinding = components["schemas"]["Finding"];
export type FileDiff = components["schemas"]["FileDiff"];
export type PartKind = "gateway" | "link" | "fate" | "provider" | "underlay" | "region";
export type Outages = components["schemas"]["Grid"];
export type OutageRow = components["schemas"]["GridRow"];
export type ChangeSheet = components["schemas"]["ChangeSheet"];
export type DetailSheet = components["schemas"]["DetailSheet"];
export type StretchSheet = components["schemas"]["StretchSheet"];
export type LinkPattern = components["schemas"]["LinkPattern"];
export type Limits = components["schemas"]["Limits"];
export type TakeoverSheet = components["schemas"]["TakeoverSheet"];
export type LinkChoice = components["schemas"]["LinkChoice"];
export type LineSheet = components["schemas"]["LineSheet"];
export type Moment = components["schemas"]["Moment"];
export type Standing = components["schemas"]["Standing"];
export type TimingSheet = components["schemas"]["TimingSheet"];
export type GatewayList = components["schemas"]["GatewayList"];
export type GatewayRow = components["schemas"]["GatewayRow"];
export type Rollout = components["schemas"]["Rollout"];
export type RolloutDetail = components["schemas"]["RolloutDetail"];
export type RolloutGateway = components["schemas"]["RolloutGateway"];
export type RolloutOrder = components["schemas"]["RolloutOrder"];
export type RolloutPlan = components["schemas"]["Plan"];
export type RolloutWave = components["schemas"]["WaveOrder"];
export type RolloutRound = components["schemas"]["Round"];
export type GatewayNow = components["schemas"]["GatewayNow"];
export type TunnelNow = components["schemas"]["TunnelNow"];
export type NewCode = components["schemas"]["NewCode"];
export type SiteOffers = components["schemas"]["SiteOffers"];
type ProblemDocument = components["schemas"]["ErrorModel"];

// The browser sends what is kept alive to its end even when the page is left at once.
export const client = createClient<paths>({ fetch: patient, keepalive: true });

const newKey = () =>
  [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");

/** How many edits wait for the server to come back. */
export const EDITS_WAIT = "wideknot-edits-wait";
let waiting = 0;
const ask = (e: Event) => e.preventDefault();
function wait(more: number) {
  waiting += more;
  dispatchEvent(new CustomEvent(EDITS_WAIT, { detail: waiting }));
  // Who leaves the page meanwhile is asked whether the edits may be lost.
  if (waiting > 0) {
    addEventListener("beforeunload", ask);
  } else {
    removeEventListener("beforeunload", ask);
  }
}

/**
 * Sends a request; an edit that does not reach the server is sent again when it
 * is back. Its key has the server do it once, also when only the answer was
 * lost. A release is not an edit: whoever releases decides again.
 */
async function patient(request: Request): Promise<Response> {
  const path = new URL(request.url).pathname;
  const edits = request.method !== "GET" && path.includes("/drafts/") && !path.endsWith("/release");
  if (!edits) {
    return fetch(new Request(request, { keepalive: false }));
  }
  if (!request.headers.has("Idempotency-Key")) {
    request.headers.set("Idempotency-Key", newKey());
  }
  const again = request.clone();
  try {
    return await fetch(request);
  } catch {
    // It was too large to be kept alive, or the server is away.
    request.signal.throwIfAborted();
  }
  let waits = false;
  try {
    for (let failures = 1; ; failures++) {
      try {
        return await fetch(new Request(again.clone(), { keepalive: false }));
      } catch {
        request.signal.throwIfAborted();
        // The first may be the page being left, which ends its requests.
        if (failures === 2) {
          waits = true;
          wait(1);
        }
        await new Promise((then) => setTimeout(then, 700));
      }
    }
  } finally {
    if (waits) {
      wait(-1);
    }
  }
}

/** What some problem documents say besides. */
interface More {
  /** Of an edit based on an older state: its revision now, and what changed it. */
  now: number;
  steps: Step[];
  changes: string[];
  /** Of a release that is held. */
  must_fix: BareFinding[];
  asks: BareFinding[];
  conflicts: Conflict[];
}

/** A Problem is what went wrong with a request, as RFC 9457 says it. */
export class Problem extends Error {
  readonly status: number;
  /** Messages by the field they belong to, such as links[0].mtu. */
  readonly fields: Record<string, string>;
  /** All the document holds, where it says more than RFC 9457's members. */
  readonly more: Partial<More>;

  constructor(document: Partial<ProblemDocument> | undefined, status: number) {
    const fields: Record<string, string> = {};
    for (const e of document?.errors ?? []) {
      const at = (e.location ?? "").replace(/^body\.?/, "");
      fields[at] ??= e.message ?? "";
    }
    // What the server's types refuse says no more than that; the place and what is expected there do.
    const detail =
      document?.detail === "validation failed"
        ? Object.entries(fields)
            .map(([at, message]) => (at ? `${at}: ${message}` : message))
            .join("; ")
        : document?.detail;
    super(detail || document?.title || `The server answered with ${status}.`);
    this.status = status;
    this.more = (document ?? {}) as Partial<More>;
    this.fields = fields;
  }
}

/** The event that says that the session has ended. */
export const SIGNED_OUT = "wideknot-signed-out";

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
    if (result.response.status === 401) {
      dispatchEvent(new Event(SIGNED_OUT));
    }
    throw new Problem(result.error as ProblemDocument, result.response.status);
  }
  return result.data as T;
}
