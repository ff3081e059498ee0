import { useQuery, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { say, useAction } from "./actions";
import { api, must, type SitePlan } from "./client";
import { keys } from "./keys";

/** Pictures of a site's buildings and the cameras on them. */

export type Mark = SitePlan["marks"][number];

export const useSitePlans = (site: string) =>
  useQuery({
    queryKey: keys.sitePlans(site),
    queryFn: () => must(api.GET("/api/sites/{site}/site-plans", { params: { path: { site } } })),
  });

export const useAddSitePlan = (site: string) =>
  useAction(
    (body: { name: string; content: string }) => must(api.POST("/api/sites/{site}/site-plans", { params: { path: { site } }, body })),
    [keys.sitePlans(site)],
    "quiet",
  );

export const useRemoveSitePlan = (site: string) =>
  useAction(
    (plan: string) => must(api.DELETE("/api/sites/{site}/site-plans/{siteplan}", { params: { path: { site, siteplan: plan } } })),
    [keys.sitePlans(site)],
  );

const mark = (site: string, siteplan: string, marks: Mark[]) =>
  must(api.PUT("/api/sites/{site}/site-plans/{siteplan}/marks", { params: { path: { site, siteplan } }, body: { marks } }));

/** Puts a camera onto a plan, or moves it there: the page shows it before the server has said so. */
export function useMark(site: string) {
  const q = useQueryClient();
  return useAction(
    ({ plan, mark: m }: { plan: string; mark: Mark }) => {
      q.setQueryData<SitePlan[]>(keys.sitePlans(site), (list) =>
        list?.map((p) => (p.id === plan ? { ...p, marks: [...p.marks.filter((x) => x.device !== m.device), m] } : p)),
      );
      return mark(site, plan, [m]);
    },
    [keys.sitePlans(site)],
  );
}

/** Takes a camera off a plan. Undo puts it back where it was. */
export const useTakeOffPlan = (site: string) =>
  useAction(
    ({ plan, mark: m }: { plan: string; mark: Mark; name: string }) =>
      must(
        api.POST("/api/sites/{site}/site-plans/{siteplan}/take-off", {
          params: { path: { site, siteplan: plan } },
          body: { devices: [m.device] },
        }),
      ),
    [keys.sitePlans(site)],
    undefined,
    (_, { plan, mark: m, name }) =>
      toast(`${name} is off the plan`, { action: { label: "Undo", onClick: () => mark(site, plan, [m]).catch(say) } }),
  );
