import { useQuery } from "@tanstack/react-query";
import { type Body, useAction } from "./actions";
import { api, must } from "./client";
import { keys } from "./keys";
import type { components } from "./schema";

/** The streams of a site that are served on. */
export const useRelays = (site: string) =>
  useQuery({
    queryKey: keys.relays(site),
    queryFn: () => must(api.GET("/api/sites/{site}/relays", { params: { path: { site } } })),
    refetchInterval: 5_000, // who takes one is told by the worker now and then
  });

type Put = Body<"/api/sites/{site}/relays/{relay}", "put"> & { id: string };

/** Has a stream served on, or changes how. */
export const usePutRelay = (site: string) =>
  useAction(
    ({ id: relay, ...body }: Put) => must(api.PUT("/api/sites/{site}/relays/{relay}", { params: { path: { site, relay } }, body })),
    [keys.relays(site)],
    "quiet",
  );

/** Has a stream served on no more. */
export const useDeleteRelay = (site: string) =>
  useAction(
    (relay: string) => must(api.DELETE("/api/sites/{site}/relays/{relay}", { params: { path: { site, relay } } })),
    [keys.relays(site)],
    "quiet",
  );

/** Makes an address under which web pages play a relay until a time; who made it is recorded. */
export const makePage = (site: string, relay: string, until: string) =>
  must(api.POST("/api/sites/{site}/relays/{relay}/pages", { params: { path: { site, relay } }, body: { until } }));

/** Stops sending a relay to its live platform, or begins again. */
export const usePausePush = (site: string) =>
  useAction(
    ({ id: relay, paused }: { id: string; paused: boolean }) =>
      must(api.PUT("/api/sites/{site}/relays/{relay}/paused", { params: { path: { site, relay } }, body: { paused } })),
    [keys.relays(site)],
    "quiet",
  );

/** Stops all that is sent to live platforms of a site. */
export const useStopPushes = (site: string) =>
  useAction(() => must(api.POST("/api/sites/{site}/pushes/stop", { params: { path: { site } } })), [keys.relays(site)], "quiet");

const offerOf = async (site: string, device: string, target: string) =>
  (await must(api.GET("/api/sites/{site}/targets/{target}/relay-offers/{device}", { params: { path: { site, target, device } } }))).offer;

/** By which relay a target would take a camera that it does not take as it is. */
export const useRelayOffer = (site: string, device: string, target: string, wanted: boolean) =>
  useQuery({
    queryKey: keys.relayOffer(site, device, target),
    queryFn: async () => (await offerOf(site, device, target)) ?? null,
    enabled: wanted,
  });

/** The same, asked once. */
export const askRelayOffer = offerOf;

export type Cost = components["schemas"]["RelayCost"];
export type Shape = components["schemas"]["Shape"];

/** What it costs a worker to serve a stream on in a form. */
export const useRelayCost = (
  site: string,
  device: string,
  role: Body<"/api/sites/{site}/devices/{device}/relay-cost", "post">["role"],
  form: Shape,
) =>
  useQuery({
    queryKey: keys.relayCost(site, device, role, form),
    queryFn: () =>
      must(api.POST("/api/sites/{site}/devices/{device}/relay-cost", { params: { path: { site, device } }, body: { role, form } })),
    placeholderData: (before) => before,
    retry: false,
  });

/** Shows the sign-in of a relay; who asked is recorded. */
export const revealRelay = (site: string, relay: string) =>
  must(api.POST("/api/sites/{site}/relays/{relay}/reveal", { params: { path: { site, relay } } }));
