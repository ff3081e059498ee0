import { useQuery } from "@tanstack/react-query";
import { toast } from "sonner";
import { type Body, useAction, useLeftOut } from "./actions";
import { api, must } from "./client";
import { keys } from "./keys";

/** How a site differs from what was agreed on, and how its watch goes. */
export const useDrifts = (site: string) =>
  useQuery({
    queryKey: keys.drifts(site),
    queryFn: () => must(api.GET("/api/sites/{site}/drifts", { params: { path: { site } } })),
    refetchInterval: 30_000, // when the last look was, is told by the minute
  });

const path = (site: string) => ({ params: { path: { site } } });

/** Puts back what was agreed on. */
export const useRepair = (site: string) =>
  useAction(
    (drifts: string[]) => must(api.POST("/api/sites/{site}/drifts/repair", { ...path(site), body: { drifts } })),
    [keys.runs(site), keys.drifts(site)],
    "quiet",
  );

/** What putting back what was agreed on would leave out. */
export const useWeighRepair = (site: string, drifts: string[]) =>
  useLeftOut(["repair", ...drifts], () =>
    must(api.POST("/api/sites/{site}/drifts/repair", { params: { path: { site }, query: { try: true } }, body: { drifts } })),
  );

/** Agrees on what is there now. */
export const useAccept = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/drifts/accept", "post">) => must(api.POST("/api/sites/{site}/drifts/accept", { ...path(site), body })),
    [keys.drifts(site), keys.baselines(site)],
    "quiet",
  );

/** Has drifts told no more until a time; without one they are told again. */
export const usePutOff = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/drifts/put-off", "post">) => must(api.POST("/api/sites/{site}/drifts/put-off", { ...path(site), body })),
    [keys.drifts(site)],
  );

/** Has a new camera take over what an old one was. */
export const useReplace = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/replace", "post">) => must(api.POST("/api/sites/{site}/replace", { ...path(site), body })),
    [keys.runs(site), keys.drifts(site), keys.devices(site)],
    "quiet",
  );

/** Says how a site is watched. */
export const useSetRounds = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/rounds", "put">) => must(api.PUT("/api/sites/{site}/rounds", { ...path(site), body })),
    [keys.drifts(site)],
    "quiet",
  );

/** Has all that is watched looked at now. */
export const useLookNow = (site: string) =>
  useAction(
    () => must(api.POST("/api/sites/{site}/rounds/now", path(site))),
    [keys.drifts(site)],
    undefined,
    () => toast("Everything that is watched is looked at now"),
  );

/** Who hears what of a site, and how that goes. */
export const useTellings = (site: string) =>
  useQuery({
    queryKey: keys.tellings(site),
    queryFn: () => must(api.GET("/api/sites/{site}/tellings", path(site))),
  });

/** Keeps a rule, a new one or one that was changed. */
export const usePutTellRule = (site: string) =>
  useAction(
    ({ rule, ...body }: Body<"/api/sites/{site}/tellings/{rule}", "put"> & { id: string }) =>
      must(
        api.PUT("/api/sites/{site}/tellings/{rule}", {
          params: { path: { site, rule: body.id } },
          body: { rule, secret: body.secret || undefined },
        }),
      ),
    [keys.tellings(site)],
    "quiet",
  );

export const useDeleteTellRule = (site: string) =>
  useAction(
    (rule: string) => must(api.DELETE("/api/sites/{site}/tellings/{rule}", { params: { path: { site, rule } } })),
    [keys.tellings(site)],
  );

export const useTestTelling = (site: string) =>
  useAction(
    (rule: string) => must(api.POST("/api/sites/{site}/tellings/{rule}/test", { params: { path: { site, rule } } })),
    [keys.tellings(site)],
    undefined,
    () => toast("A test message is on its way"),
  );

/** What was seen of a camera, a target or, without one, the site over some hours. */
export const useTimeLine = (site: string, thing: string | undefined, hours: number) =>
  useQuery({
    queryKey: keys.timeLine(site, thing, hours),
    queryFn: () => must(api.GET("/api/sites/{site}/timeline", { params: { path: { site }, query: { thing, hours } } })),
    placeholderData: (before) => before,
    refetchInterval: 60_000,
  });

/** How much of a month each camera and target was up. */
export const useAvailability = (site: string, month?: string) =>
  useQuery({
    queryKey: keys.availability(site, month),
    queryFn: () => must(api.GET("/api/sites/{site}/availability", { params: { path: { site }, query: { month } } })),
  });
