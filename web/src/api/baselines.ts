import { useQuery } from "@tanstack/react-query";
import { type Body, useAction } from "./actions";
import { api, must } from "./client";
import { keys } from "./keys";

/** The states of a site that were agreed on, the newest first. */
export const useBaselines = (site: string) =>
  useQuery({
    queryKey: keys.baselines(site),
    queryFn: () => must(api.GET("/api/sites/{site}/baselines", { params: { path: { site } } })),
  });

/** What has changed since one was agreed on, up to another one or, without it, up to now. */
export const useDifferences = (site: string, baseline: string | undefined, other: string | undefined) =>
  useQuery({
    queryKey: keys.differences(site, baseline, other),
    enabled: !!baseline,
    queryFn: () =>
      must(
        api.GET("/api/sites/{site}/baselines/{baseline}/differences", {
          params: { path: { site, baseline: baseline! }, query: { with: other } },
        }),
      ),
    refetchInterval: other ? false : 10_000,
  });

/** Keeps the state that is known now as agreed on. */
export const useTakeBaseline = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/baselines", "post">) =>
      must(api.POST("/api/sites/{site}/baselines", { params: { path: { site } }, body })),
    [keys.baselines(site)],
    "quiet",
  );
