import { useQuery } from "@tanstack/react-query";
import { type Body, useAction } from "./actions";
import { api, must } from "./client";
import { keys } from "./keys";

/** How the site is seen from outside. */
export const useOutside = (site: string) =>
  useQuery({
    queryKey: keys.outside(site),
    queryFn: () => must(api.GET("/api/sites/{site}/outside", { params: { path: { site } } })),
    refetchInterval: 5_000,
  });

type Form = Body<"/api/sites/{site}/outside", "put">;

/** Plans ports for all that may be led outside. Nothing is kept. */
export const usePlanOutside = (site: string) =>
  useAction((body: Form) => must(api.POST("/api/sites/{site}/outside/plan", { params: { path: { site } }, body })), [], "quiet");

export const usePutOutside = (site: string) =>
  useAction(
    (body: Form) => must(api.PUT("/api/sites/{site}/outside", { params: { path: { site } }, body })),
    [keys.outside(site), keys.devices(site)],
    "quiet",
  );

/** Has a worker elsewhere play what is led outside. */
export const useProveOutside = (site: string) =>
  useAction(() => must(api.POST("/api/sites/{site}/outside/prove", { params: { path: { site } } })), [keys.runs(site)]);
