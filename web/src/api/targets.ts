import { useQuery } from "@tanstack/react-query";
import { toast } from "sonner";
import { type Body, say, useAction } from "./actions";
import { api, must, type Target } from "./client";
import { keys } from "./keys";

/** Changes of targets and of what stands on them. */

export type PlaceBody = Body<"/api/sites/{site}/place", "post">;
export type TargetBody = Body<"/api/sites/{site}/targets", "post">;

const stale = (site: string) => [keys.runs(site), keys.targets(site), keys.devices(site)];

const takeOff = (site: string, devices: string[], target: string) =>
  must(api.POST("/api/sites/{site}/remove", { params: { path: { site } }, body: { devices, target } }));

const put = (site: string, body: PlaceBody) => must(api.POST("/api/sites/{site}/place", { params: { path: { site } }, body }));

/** Puts cameras onto targets. Undo takes those off again that were not there before. */
export const usePlace = (site: string) =>
  useAction(
    (body: PlaceBody & { name?: string }) => put(site, { placements: body.placements, tune: body.tune }),
    stale(site),
    undefined,
    (_, { placements, name }) => {
      if (placements.some((p) => p.again || p.replaces)) return;
      toast(`Placing ${placements.length === 1 ? "1 camera" : `${placements.length} cameras`}${name ? ` on ${name}` : ""}`, {
        action: {
          label: "Undo",
          onClick: () => {
            for (const target of new Set(placements.map((p) => p.target)))
              takeOff(
                site,
                placements.filter((p) => p.target === target).map((p) => p.device),
                target,
              ).catch(say);
          },
        },
      });
    },
  );

/** The slots that cameras would go into, and the cameras that would be left out, asked before anything is placed. */
export const usePlannedSlots = (site: string, placements: PlaceBody["placements"]) =>
  useQuery({
    queryKey: [...keys.targets(site), "planned", placements],
    queryFn: () => must(api.POST("/api/sites/{site}/place", { params: { path: { site }, query: { try: true } }, body: { placements } })),
    enabled: placements.length > 0,
    retry: false,
    staleTime: 0,
  });

/** Takes cameras off a target. Undo puts them back into the slots that they had. */
export const useTakeOff = (site: string) =>
  useAction(
    ({ devices, target }: { devices: string[]; target: string; name: string; slots: (string | undefined)[] }) =>
      takeOff(site, devices, target),
    stale(site),
    undefined,
    (_, { devices, target, name, slots }) => {
      toast(`Taking ${devices.length === 1 ? "a camera" : `${devices.length} cameras`} off ${name}`, {
        action: {
          label: "Undo",
          onClick: () => put(site, { placements: devices.map((device, i) => ({ device, target, slot: slots[i] })) }).catch(say),
        },
      });
    },
  );

const move = (site: string, device: string, target: string, slot: string) =>
  must(api.POST("/api/sites/{site}/move", { params: { path: { site } }, body: { device, target, slot } }));

/** Moves a camera to another slot of its target. Undo moves it back. */
export const useMove = (site: string) =>
  useAction(
    ({ device, target, slot }: { device: string; target: string; slot: string; from?: string }) => move(site, device, target, slot),
    stale(site),
    undefined,
    (_, { device, target, from }) => {
      toast("Moving it", from ? { action: { label: "Undo", onClick: () => move(site, device, target, from).catch(say) } } : {});
    },
  );

export const useFill = (site: string) =>
  useAction(
    ({ target, ...body }: Body<"/api/sites/{site}/targets/{target}/fill", "post"> & { target: string }) =>
      must(api.POST("/api/sites/{site}/targets/{target}/fill", { params: { path: { site, target } }, body })),
    stale(site),
  );

export const useShow = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/show", "post">) => must(api.POST("/api/sites/{site}/show", { params: { path: { site } }, body })),
    [keys.runs(site)],
  );

export const useRule = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/rule", "post">) => must(api.POST("/api/sites/{site}/rule", { params: { path: { site } }, body })),
    [keys.runs(site)],
  );

export const useAttest = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/attest", "post">) => must(api.POST("/api/sites/{site}/attest", { params: { path: { site } }, body })),
    stale(site),
    undefined,
    () => toast("Kept: you have looked, and it shows the picture"),
  );

export const useLookAt = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/targets/look", "post">) =>
      must(api.POST("/api/sites/{site}/targets/look", { params: { path: { site } }, body })),
    [keys.runs(site)],
  );

export const useChangeTarget = (site: string) =>
  useAction(
    ({ target, ...body }: Body<"/api/sites/{site}/targets/{target}/change", "post"> & { target: string }) =>
      must(api.POST("/api/sites/{site}/targets/{target}/change", { params: { path: { site, target } }, body })),
    [keys.runs(site)],
  );

export const useAddTarget = (site: string) =>
  useAction(
    (body: TargetBody) => must(api.POST("/api/sites/{site}/targets", { params: { path: { site } }, body })),
    [keys.targets(site), keys.runs(site), keys.signIns()],
    "quiet",
  );

/** The certificate that is shown at an address, as a worker of the site sees it. */
export const useSeeCertificate = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/targets/certificate", "post">) =>
      must(api.POST("/api/sites/{site}/targets/certificate", { params: { path: { site } }, body })),
    [],
    "quiet",
  );

/** Where the name in an address leads, as a worker of the site sees it. */
export const useSeeAddresses = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/targets/addresses", "post">) =>
      must(api.POST("/api/sites/{site}/targets/addresses", { params: { path: { site } }, body })),
    [],
    "quiet",
  );

export const useSetTarget = (site: string) =>
  useAction(
    ({ target, ...body }: TargetBody & { target: string }) =>
      must(api.PUT("/api/sites/{site}/targets/{target}", { params: { path: { site, target } }, body })),
    [keys.targets(site), keys.runs(site), keys.signIns(), keys.devices(site)],
    "quiet",
    () => toast("Kept"),
  );

/** What somebody has seen of a target before they change it. */
type Seen = NonNullable<TargetBody["was"]>;

export const seenOf = (t: Target): Seen => ({ name: t.name, address: t.address, intake: t.intake, settings: t.settings });

/** A target as somebody else has made it, from its fields as they are told. */
export const seenIn = ({ name, address, accepts, ...settings }: Record<string, string>): Seen => ({
  name: name ?? "",
  address,
  intake: accepts,
  settings,
});

export type TargetSecret = Body<"/api/sites/{site}/targets/{target}/agreements", "post">["secret"];

/** Agrees that a secret may go to a target so that it can be read, and goes on with the cameras that wait for it. */
export const useAgreeForTarget = (site: string) =>
  useAction(
    ({ target, ...body }: Body<"/api/sites/{site}/targets/{target}/agreements", "post"> & { target: string }) =>
      must(api.POST("/api/sites/{site}/targets/{target}/agreements", { params: { path: { site, target } }, body })),
    stale(site),
    "quiet",
  );

/** Takes back what was agreed for a target: one secret, or all. */
export const useDisagreeForTarget = (site: string) =>
  useAction(
    ({ target, secret }: { target: string; secret?: TargetSecret }) =>
      must(api.DELETE("/api/sites/{site}/targets/{target}/agreements", { params: { path: { site, target }, query: { secret } } })),
    stale(site),
    undefined,
    () => toast("Taken back: it is asked about again before anything is sent"),
  );

/** Says that the certificate that a target is known by is its own. */
export const useTakeTargetCertificate = (site: string) =>
  useAction(
    ({ target, sha256 }: { target: string; sha256: string }) =>
      must(api.POST("/api/sites/{site}/targets/{target}/certificate", { params: { path: { site, target } }, body: { sha256 } })),
    [keys.targets(site)],
    undefined,
    () => toast("Kept: the certificate is its own"),
  );

export const useDeleteTarget = (site: string) =>
  useAction(
    (target: string) => must(api.DELETE("/api/sites/{site}/targets/{target}", { params: { path: { site, target } } })),
    stale(site),
  );

export const useFeedAddress = (site: string) =>
  useAction(
    ({ target, close }: { target: string; close?: boolean }) =>
      close
        ? must(api.DELETE("/api/sites/{site}/targets/{target}/feed", { params: { path: { site, target } } }))
        : must(api.POST("/api/sites/{site}/targets/{target}/feed", { params: { path: { site, target } } })),
    [keys.targets(site)],
  );

export const useOrderList = (site: string) =>
  useAction(
    ({ target, devices }: { target: string; devices: string[] }) =>
      must(api.PUT("/api/sites/{site}/targets/{target}/order", { params: { path: { site, target } }, body: { devices } })),
    [keys.targets(site)],
  );

export const usePreviewList = (site: string) =>
  useAction(
    ({ target, ...body }: Body<"/api/sites/{site}/targets/{target}/preview", "post"> & { target: string }) =>
      must(api.POST("/api/sites/{site}/targets/{target}/preview", { params: { path: { site, target } }, body })),
    [],
    "quiet",
  );
