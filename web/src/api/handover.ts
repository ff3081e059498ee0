import { useQuery } from "@tanstack/react-query";
import { type Body, useAction } from "./actions";
import { api, must, Problem, type SealedTo } from "./client";
import { keys } from "./keys";

const path = (site: string) => ({ params: { path: { site } } });

/** Whether a site can be handed over, and what was handed over. */
export const useHandover = (site: string) =>
  useQuery({
    queryKey: keys.handover(site),
    queryFn: () => must(api.GET("/api/sites/{site}/handover", path(site))),
    refetchInterval: 15_000, // findings come and go with the devices
  });

/** The versions of a site's pack, for whoever may look and no more. */
export const useHandoverVersions = (site: string) =>
  useQuery({ queryKey: keys.handovers(site), queryFn: () => must(api.GET("/api/sites/{site}/handover/versions", path(site))) });

/** Hands over all the same, with a reason. */
export const useWaive = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/handover/waivers", "post">) =>
      must(api.POST("/api/sites/{site}/handover/waivers", { ...path(site), body })),
    [keys.handover(site)],
    "quiet",
  );

export const useWithdrawWaiver = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/handover/waivers/withdraw", "post">) =>
      must(api.POST("/api/sites/{site}/handover/waivers/withdraw", { ...path(site), body })),
    [keys.handover(site)],
  );

/** Says that an item of the checklist is done, or that it is not. */
export const useAttestItem = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/handover/attested", "put">) =>
      must(api.PUT("/api/sites/{site}/handover/attested", { ...path(site), body })),
    [keys.handover(site)],
  );

export const usePutChecklist = (site: string) =>
  useAction(
    ({ yaml, firm }: { yaml: string; firm: boolean }) =>
      firm
        ? must(api.PUT("/api/firm/checklist", { body: { yaml } }))
        : must(api.PUT("/api/sites/{site}/handover/checklist", { ...path(site), body: { yaml } })),
    [keys.handover(site)],
    "quiet",
  );

/** Says whose papers these are. */
export const useSetFirm = (site: string) =>
  useAction((body: Body<"/api/firm", "put">) => must(api.PUT("/api/firm", { body })), [keys.handover(site), keys.firm()], "quiet");

/** Makes a version of the pack. */
export const useMakeHandover = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/handover/versions", "post">) =>
      must(api.POST("/api/sites/{site}/handover/versions", { ...path(site), body })),
    [keys.runs(site), keys.handover(site)],
    "quiet",
  );

/** Signs a version on the screen. */
export const useSignHandover = (site: string, version: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/handover/versions/{version}/sign", "post">) =>
      must(api.POST("/api/sites/{site}/handover/versions/{version}/sign", { params: { path: { site, version } }, body })),
    [keys.handover(site), keys.handovers(site)],
    "quiet",
  );

/** What has changed since a version, up to a later one or, without it, up to now. */
export const usePackChanges = (site: string, version: string, to?: string) =>
  useQuery({
    queryKey: keys.packChanges(site, version, to),
    queryFn: () =>
      must(
        api.GET("/api/sites/{site}/handover/versions/{version}/changes", {
          params: { path: { site, version }, query: { to } },
        }),
      ),
  });

/** How a site stands to the pack that it was opened from. */
export const useOpened = (site: string) =>
  useQuery({
    queryKey: keys.opened(site),
    queryFn: () => must(api.GET("/api/sites/{site}/handover/opened", path(site))),
    refetchInterval: 5_000,
  });

/** What a pack holds, before it is opened. */
export type PackView = {
  id: string;
  name: string;
  number: number;
  by: string;
  at: string;
  hash: string;
  ranges: string[];
  targets: { name: string; kind: string; address?: string }[];
  cameras: number;
  devices: number;
  sealed?: SealedTo;
  books: string[];
  warnings: string[];
  here: boolean;
};

/** Brings a pack as a zip file. It is checked, and nothing is done with it yet. */
export const useBringPack = () =>
  useAction(
    async (file: File): Promise<PackView> => {
      const answer = await fetch(
        new Request(`${location.origin}/api/packs`, { method: "POST", headers: { "Content-Type": "application/zip" }, body: file }),
      );
      const body = await answer.json();
      if (!answer.ok) throw new Problem(answer.status, body.cause ?? "unknown", body.detail ?? "Something went wrong.", body.fix ?? "");
      return body;
    },
    [],
    "quiet",
  );

/** Makes a site of a pack that was brought. */
export const useOpenPack = () =>
  useAction(
    ({ upload, secret }: { upload: string; secret?: string }) =>
      must(api.POST("/api/packs/{upload}/open", { params: { path: { upload } }, body: { secret } })),
    [keys.sites()],
    "quiet",
  );

/** Where a file of a version is. */
export const packFile = (site: string, version: string, file: string) =>
  `/api/sites/${site}/handover/versions/${version}/file?path=${encodeURIComponent(file)}`;

export const packZip = (site: string, version: string) => `/api/sites/${site}/handover/versions/${version}/zip`;
