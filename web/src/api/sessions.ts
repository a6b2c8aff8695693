import { useMutation } from "@tanstack/react-query";
import { answered, client } from "./client";

/** A tunnel by its interface at a site's gateway, and what of its sessions is ended. */
export interface SessionsOrder {
  site: string;
  interface: string;
  reset?: "keys" | "flows";
}

/** What is open by a tunnel, as the gateway at one of its ends knows it; it is asked there each time. */
export const useSessions = (estate: string) =>
  useMutation({
    mutationFn: (body: SessionsOrder) =>
      answered(client.POST("/api/estates/{estate}/sessions", { params: { path: { estate } }, body })),
  });
