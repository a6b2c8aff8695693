import { createBrowserRouter, Navigate } from "react-router";
import { Frame } from "./parts/frame";

const stage = (load: () => Promise<{ default: React.ComponentType }>) => async () => ({
  Component: (await load()).default,
});

export const router = createBrowserRouter([
  { path: "/", lazy: stage(() => import("./stages/estates/estates")) },
  {
    path: "/e/:estate",
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
    ],
  },
]);
