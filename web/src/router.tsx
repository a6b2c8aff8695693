import { createBrowserRouter, Navigate } from "react-router";
import { Frame } from "./parts/frame";
import { Nowhere } from "./parts/nowhere";
import { Session } from "./stages/entrance/session";

const stage = (load: () => Promise<{ default: React.ComponentType }>) => async () => ({
  Component: (await load()).default,
});

export const router = createBrowserRouter([
  { path: "*", Component: Nowhere },
  { path: "/welcome", lazy: stage(() => import("./stages/entrance/welcome")) },
  {
    Component: Session,
    children: [
      { path: "/", lazy: stage(() => import("./stages/estates/estates")) },
      { path: "/sign-in", element: <Navigate to="/" replace /> },
      { path: "/me", lazy: stage(() => import("./stages/me/me")) },
      { path: "/accounts", lazy: stage(() => import("./stages/me/accounts")) },
      { path: "/e/:estate", lazy: stage(() => import("./stages/estate/drafts")) },
      { path: "/e/:estate/compare", lazy: stage(() => import("./stages/estate/compare")) },
      { path: "/e/:estate/people", lazy: stage(() => import("./stages/estate/people")) },
      { path: "/e/:estate/audit", lazy: stage(() => import("./stages/estate/audit")) },
      {
        path: "/e/:estate/d/:draft",
        Component: Frame,
        children: [
          { index: true, element: <Navigate to="survey" replace /> },
          { path: "survey", lazy: stage(() => import("./stages/survey/survey")) },
          { path: "survey/import", lazy: stage(() => import("./stages/survey/import")) },
          { path: "survey/regions", lazy: stage(() => import("./stages/survey/regions")) },
          { path: "addresses", lazy: stage(() => import("./stages/addresses/addresses")) },
          { path: "shape", lazy: stage(() => import("./stages/shape/shape")) },
          { path: "paths", lazy: stage(() => import("./stages/paths/paths")) },
          { path: "paths/:site", lazy: stage(() => import("./stages/paths/site")) },
          { path: "outages", lazy: stage(() => import("./stages/outages/outages")) },
          { path: "findings", lazy: stage(() => import("./stages/findings/findings")) },
          { path: "paths/-/follow", lazy: stage(() => import("./stages/paths/follow")) },
          { path: "paths/-/tunnel", lazy: stage(() => import("./stages/paths/both-ends")) },
          { path: "watch", lazy: stage(() => import("./stages/watch/watch")) },
          { path: "watch/-/events", lazy: stage(() => import("./stages/watch/events")) },
          { path: "watch/-/time", lazy: stage(() => import("./stages/watch/over-time")) },
          { path: "watch/-/bench", lazy: stage(() => import("./stages/watch/bench")) },
          { path: "watch/-/loom", lazy: stage(() => import("./stages/watch/live-loom")) },
          { path: "watch/-/pair", lazy: stage(() => import("./stages/watch/pair")) },
          { path: "watch/-/tunnel", lazy: stage(() => import("./stages/watch/tunnel")) },
          { path: "watch/-/link", lazy: stage(() => import("./stages/watch/link")) },
          { path: "watch/-/drills", lazy: stage(() => import("./stages/watch/drills")) },
          { path: "watch/-/why", lazy: stage(() => import("./stages/watch/why")) },
          { path: "watch/:site", lazy: stage(() => import("./stages/watch/gateway")) },
          { path: "release", lazy: stage(() => import("./stages/release/release")) },
        ],
      },
    ],
  },
]);
