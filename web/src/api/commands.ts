import { useQuery } from "@tanstack/react-query";
import { type Body, useAction } from "./actions";
import { api, must } from "./client";
import { keys } from "./keys";

/** What a device can be told on its maker's own page; seen changes when something becomes known of the device. */
export const useCommands = (device: string, seen?: number) =>
  useQuery({
    queryKey: keys.commands(device, seen),
    queryFn: () => must(api.GET("/api/devices/{device}/commands", { params: { path: { device } } })),
    placeholderData: (before) => before,
  });

/** Sends a command to devices, or takes it back. */
export const useSendCommand = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/commands", "post">) =>
      must(api.POST("/api/sites/{site}/commands", { params: { path: { site } }, body })),
    [keys.runs(site)],
    "quiet",
  );

/** Makes a command of two requests that worked. Nothing is kept. */
export const useLearnCommand = () =>
  useAction(
    (body: Body<"/api/path-books/learn-command", "post">) => must(api.POST("/api/path-books/learn-command", { body })),
    [],
    "quiet",
  );
