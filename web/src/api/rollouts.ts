import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answered, client, Problem, type Rollout, type RolloutOrder } from "./client";

const listKey = (estate: string) => ["rollouts", estate];

/** How often a rollout that is on its way is asked for, and the list of them, in ms. */
const EVERY = 700;
const LIST_EVERY = 3000;

export const isOnItsWay = (r: Rollout) => r.state !== "done" && r.state !== "undone" && r.state !== "left";

/** The rollouts of an estate, newest first. */
export const useRollouts = (estate: string) =>
  useQuery({
    queryKey: listKey(estate),
    queryFn: ({ signal }) =>
      answered(client.GET("/api/estates/{estate}/rollouts", { signal, params: { path: { estate } } })),
    refetchInterval: LIST_EVERY,
  });

/** One with its plan, its gateways and what happened. */
export const useRollout = (estate: string, number: number) =>
  useQuery({
    queryKey: [...listKey(estate), number],
    queryFn: ({ signal }) =>
      answered(
        client.GET("/api/estates/{estate}/rollouts/{number}", {
          signal,
          params: { path: { estate, number } },
        }),
      ),
    enabled: number > 0,
    refetchInterval: (q) => (q.state.data && !isOnItsWay(q.state.data) ? false : EVERY),
  });

/** What is planned: a release, in the usual waves or in those of a person. */
export type PlannedOrder = Pick<RolloutOrder, "release" | "waves" | "instead">;

/** How a release would be brought to gateways. */
export const useRolloutPlan = (estate: string, order: PlannedOrder, on: boolean) =>
  useQuery({
    queryKey: ["rollout-plan", estate, order],
    queryFn: ({ signal }) =>
      answered(
        client.POST("/api/estates/{estate}/rollout-plan", {
          signal,
          params: { path: { estate } },
          body: { ...order, soak_s: 0, by_hand: false, away: 0, without_away: false },
        }),
      ),
    enabled: on && order.release > 0,
    retry: false,
    // Gateways that are still on their way from the last rollout are there in a moment.
    refetchInterval: (query) =>
      query.state.error instanceof Problem && query.state.error.status === 409 ? 1000 : false,
    staleTime: 5000,
  });

function useAct<In, Out>(estate: string, act: (input: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSettled: () => {
      queries.invalidateQueries({ queryKey: listKey(estate) });
      queries.invalidateQueries({ queryKey: ["rollout-plan", estate] });
    },
  });
}

export const useStartRollout = (estate: string) =>
  useAct(estate, (body: RolloutOrder) =>
    answered(client.POST("/api/estates/{estate}/rollouts", { params: { path: { estate } }, body })),
  );

export const useDecide = (estate: string, number: number) =>
  useAct(estate, (body: { do: "go-on" | "accept" | "wait" | "back"; without_away?: boolean }) =>
    answered(
      client.POST("/api/estates/{estate}/rollouts/{number}/decision", {
        params: { path: { estate, number } },
        body,
      }),
    ),
  );
