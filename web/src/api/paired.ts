import { useQuery } from "@tanstack/react-query";
import { type Body, useAction } from "./actions";
import { api, must } from "./client";
import { keys } from "./keys";

/** The workers at sites that are known by keys of their own. */
export const usePaired = () =>
  useQuery({ queryKey: keys.paired(), queryFn: () => must(api.GET("/api/paired-workers")), refetchInterval: 5_000 });

/** Makes the machine that shows a code a worker of some sites. */
export const usePairWorker = () =>
  useAction((body: Body<"/api/paired-workers", "post">) => must(api.POST("/api/paired-workers", { body })), [keys.paired()], "quiet");

/** Lets a paired worker in no more, and ends its connection. */
export const useRevokeWorker = () =>
  useAction(
    (worker: string) => must(api.DELETE("/api/paired-workers/{worker}", { params: { path: { worker } } })),
    [keys.paired()],
    "quiet",
  );

/** Changes which sites a paired worker has. */
export const useGiveSites = () =>
  useAction(
    ({ worker, ...body }: { worker: string; sites: string[]; shared: boolean }) =>
      must(api.PUT("/api/paired-workers/{worker}/sites", { params: { path: { worker } }, body })),
    [keys.paired()],
    "quiet",
  );

/** The programs that paired workers can be told to take. */
export const usePrograms = () =>
  useQuery({ queryKey: keys.programs(), queryFn: () => must(api.GET("/api/worker-programs")), refetchInterval: 30_000 });

/** Tells a paired worker to take the program of another version. */
export const useUpdateWorker = () =>
  useAction(
    ({ worker, version }: { worker: string; version: string }) =>
      must(api.PUT("/api/paired-workers/{worker}/update", { params: { path: { worker } }, body: { version } })),
    [keys.paired()],
    "quiet",
  );

/** The sign-ins that a worker could read and no longer can. */
export const useLaidOpen = (worker: string) =>
  useQuery({
    queryKey: [...keys.paired(), worker],
    queryFn: () => must(api.GET("/api/paired-workers/{worker}/laid-open", { params: { path: { worker } } })),
  });

/** Gives a site another data key; without one, what is for every site. */
export const useRotateKey = () =>
  useAction((site: string | undefined) => must(api.POST("/api/data-keys", { body: { site } })), [keys.paired()], "quiet");
