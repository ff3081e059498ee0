import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { base64 } from "./base64";
import { api, must, Problem, type Device, type Left, type SignIn } from "./client";
import { keys } from "./keys";
import type { paths } from "./schema";

/** The body that a route takes, from the document of the API. */
export type Body<P extends keyof paths, M extends keyof paths[P]> = paths[P][M] extends {
  requestBody: { content: { "application/json": infer B } };
}
  ? Omit<B, "$schema">
  : never;

/**
 * A change on the server; afterwards what it has made stale is asked for anew. Its failure is shown as a toast unless the form
 * shows it.
 */
export function useAction<In, Out>(
  send: (given: In) => Promise<Out>,
  stale: (readonly unknown[])[],
  quiet?: "quiet",
  done?: (out: Out, given: In) => void,
) {
  const q = useQueryClient();
  return useMutation({
    mutationFn: send,
    onSuccess: (out, given) => {
      for (const queryKey of stale) q.invalidateQueries({ queryKey });
      sayLeftOut((out as { left?: Left[] } | undefined)?.left);
      done?.(out, given);
    },
    onError: quiet ? undefined : say,
  });
}

/** Shows a problem as a toast, with its fix. */
export function say(e: unknown) {
  if (e instanceof Problem) toast.error(e.message, { description: e.fix });
  else toast.error(String(e));
}

/** Tells which devices an act has left out, and why. */
function sayLeftOut(left?: Left[]) {
  if (!left?.length) return;
  const first = left[0]!;
  const others = left.length > 1 ? `, and ${left.length - 1} more` : "";
  toast.warning(`Left out: ${first.name}${others}`, { description: `${first.reason} ${first.fix}` });
}

/** The devices that an act would leave out, asked before its button is pressed. ask sends the act with try, and changes with its key. */
export function useLeftOut(key: unknown[], ask: () => Promise<{ left?: Left[] }>) {
  return useQuery({ queryKey: ["left-out", ...key], queryFn: ask, retry: false, staleTime: 0 });
}

export const useOpenLatches = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/open", "post">) => must(api.POST("/api/sites/{site}/open", { params: { path: { site } }, body })),
    [keys.runs(site)],
  );

export const useSweep = (site: string) =>
  useAction(
    (confirm: boolean) => must(api.POST("/api/sites/{site}/sweeps", { params: { path: { site } }, body: { confirm_large: confirm } })),
    [keys.runs(site)],
    "quiet",
  );

/** Sweeps the site, and opens the latches afterwards of all that was heard. */
export const useFindAndOpen = (site: string) =>
  useAction(
    () => must(api.POST("/api/sites/{site}/sweeps", { params: { path: { site } }, body: { open: true, confirm_large: true } })),
    [keys.runs(site)],
  );

export const useStop = (site: string) => {
  const q = useQueryClient();
  return useMutation({
    mutationFn: (run: string) => must(api.POST("/api/runs/{run}/stop", { params: { path: { run } } })),
    onSettled: () => q.invalidateQueries({ queryKey: keys.runs(site) }),
    onError: say,
  });
};

export function useRename(site: string) {
  const q = useQueryClient();
  const rename = async (device: string, name: string, was?: string) =>
    must(api.PATCH("/api/devices/{device}", { params: { path: { device } }, body: { name, was } }));
  return useMutation({
    mutationFn: ({ device, name, was }: { device: string; name: string; was: string }) => rename(device, name, was),
    onSuccess: (out, { device, name }) => {
      toast(name ? `Named “${name}”` : "Name taken back", {
        action: { label: "Undo", onClick: () => rename(device, out.before, name).catch(say) },
      });
    },
    onError: (e, { device, name }) => {
      const other = e instanceof Problem ? e.changed : undefined;
      if (!other) return say(e);
      const theirs = other.now.name || "what it calls itself";
      toast.warning(`${other.by || "Somebody"} has named it “${theirs}” meanwhile`, {
        duration: Number.POSITIVE_INFINITY,
        action: { label: `Keep “${name}”`, onClick: () => rename(device, name, other.now.name).catch(say) },
        cancel: { label: `Keep “${theirs}”`, onClick: () => undefined },
      });
    },
    onSettled: () => q.invalidateQueries({ queryKey: keys.devices(site) }),
  });
}

type Names = Body<"/api/sites/{site}/names", "post">;

const nameAll = (site: string, body: Names) => must(api.POST("/api/sites/{site}/names", { params: { path: { site } }, body }));

/** Names several devices. Undo gives back the names that they had. */
export const useNameAll = (site: string) =>
  useAction(
    (body: Names) => nameAll(site, body),
    [keys.devices(site)],
    "quiet",
    ({ names }) =>
      toast(`Named ${names.length === 1 ? "1 camera" : `${names.length} cameras`}`, {
        action: {
          label: "Undo",
          onClick: () =>
            nameAll(site, {
              devices: names.map((n) => n.device),
              names: Object.fromEntries(names.map((n) => [n.device, n.before])),
            }).catch(say),
        },
      }),
  );

/** How devices would be called by a pattern or a list, as JSON of what would be sent; undefined asks nothing. */
export const useNamesTried = (site: string, body?: string) =>
  useQuery({
    queryKey: [...keys.devices(site), "names", body],
    queryFn: () =>
      must(api.POST("/api/sites/{site}/names", { params: { path: { site }, query: { try: true } }, body: JSON.parse(body!) as Names })),
    enabled: body !== undefined,
    retry: false,
    staleTime: 0,
    placeholderData: (before) => before,
  });

type AddressLine = Body<"/api/sites/{site}/addresses", "post">["lines"][number];

export const useSetAddress = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/addresses", "post">) =>
      must(api.POST("/api/sites/{site}/addresses", { params: { path: { site } }, body })),
    [keys.runs(site)],
    "quiet",
  );

/** The lines that put devices back to what they had before. */
export const backToBefore = (devices: Device[]): AddressLine[] =>
  devices.flatMap((d) => {
    const b = d.moved?.before;
    const a = d.moved?.after;
    // What was set by hand for the first time goes back to DHCP.
    return b
      ? [
          {
            no_dns: !b.dns?.length && !!a?.dns?.length,
            no_ntp: !b.ntp && !!a?.ntp,
            device: d.id,
            address: b.addr,
            dhcp: b.dhcp,
            bits: b.bits,
            gateway: b.gateway || undefined,
            dns: b.dns?.join(", "),
            ntp: b.ntp,
            host: b.host,
            time_zone: b.time_zone,
          },
        ]
      : [];
  });

type Fix = Omit<Body<"/api/sites/{site}/fixes", "post">, "devices"> & { devices: Device[] };

/** Mends one thing on devices; the bench takes it back. */
export const useFix = (site: string) =>
  useAction(
    ({ devices, ...rest }: Fix) =>
      must(api.POST("/api/sites/{site}/fixes", { params: { path: { site } }, body: { devices: devices.map((d) => d.id), ...rest } })),
    [keys.runs(site), keys.signIns()],
    "quiet",
  );

/** Measures the groups of cameras, starts or stops sending to them, or puts back what was set. */
export const useCast = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/multicast", "post">) =>
      must(api.POST("/api/sites/{site}/multicast", { params: { path: { site } }, body })),
    [keys.runs(site)],
  );

/** What groups streams would be given, or giving them. */
export const usePlanGroups = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/group-plans", "post">) =>
      must(api.POST("/api/sites/{site}/group-plans", { params: { path: { site } }, body })),
    [keys.runs(site)],
    "quiet",
  );

type Mark = Omit<Body<"/api/sites/{site}/marks", "post">, "devices"> & { devices: Device[] };

/** Has cameras show which one they are, or puts back what that left. */
export const useMark = (site: string) =>
  useAction(
    ({ devices, ...rest }: Mark) =>
      must(api.POST("/api/sites/{site}/marks", { params: { path: { site } }, body: { devices: devices.map((d) => d.id), ...rest } })),
    [keys.runs(site)],
  );

/** Says that somebody who walks past a camera is seen in its picture, or takes that back. */
export const useWalk = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/walks", "post">) => must(api.POST("/api/sites/{site}/walks", { params: { path: { site } }, body })),
    [keys.devices(site)],
  );

/** Sets streams to a plan, or puts them back. */
export const useTune = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/tune", "post">) => must(api.POST("/api/sites/{site}/tune", { params: { path: { site } }, body })),
    [keys.runs(site)],
    "quiet",
  );

/** What plans would do to devices, before anything is sent. */
export const usePreview = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/preview", "post">) => must(api.POST("/api/sites/{site}/preview", { params: { path: { site } }, body })),
    [],
    "quiet",
  );

/** Plans the streams of a site, a model or a selection. Nothing is sent to any device. */
export const usePutPlan = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/plans", "put">) => must(api.PUT("/api/sites/{site}/plans", { params: { path: { site } }, body })),
    [keys.plans(site), keys.devices(site)],
    "quiet",
  );

export const useDropPlan = (site: string) =>
  useAction(
    (plan: string) => must(api.DELETE("/api/sites/{site}/plans/{plan}", { params: { path: { site, plan } } })),
    [keys.plans(site), keys.devices(site)],
  );

export const useSavePreset = () =>
  useAction(
    (body: Body<"/api/presets/own", "post">) => must(api.POST("/api/presets/own", { body })),
    [keys.presets()],
    "quiet",
    (_, { name }) => {
      toast(`“${name}” is a preset now`);
    },
  );

export const useBringPresets = () =>
  useAction((yaml: string) => must(api.POST("/api/presets", { body: { yaml } })), [keys.presets()], "quiet");

export const useDropPresets = () =>
  useAction((book: string) => must(api.DELETE("/api/presets/{book}", { params: { path: { book } } })), [keys.presets()]);

export const useBringIntakes = () =>
  useAction((yaml: string) => must(api.POST("/api/intakes", { body: { yaml } })), [keys.intakes()], "quiet");

export const useDropIntakes = () =>
  useAction((book: string) => must(api.DELETE("/api/intakes/{book}", { params: { path: { book } } })), [keys.intakes()]);

/** Says what a target accepts. */
export const useSetIntake = (site: string) =>
  useAction(
    ({ target, name }: { target: string; name: string }) =>
      must(api.PUT("/api/sites/{site}/targets/{target}/intake", { params: { path: { site, target } }, body: { name } })),
    [keys.targets(site), keys.devices(site)],
  );

/** The plans nearest to cameras' streams that all their targets take. */
export const useNearest = (site: string) =>
  useAction(
    (devices: string[]) => must(api.POST("/api/sites/{site}/nearest-plans", { params: { path: { site } }, body: { devices } })),
    [],
  );

/** Reckons what a site's streams cost. */
export const useReckon = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/costs", "post">) => must(api.POST("/api/sites/{site}/costs", { params: { path: { site } }, body })),
    [],
    "quiet",
  );

export const useSaveRecording = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/costs", "put">) => must(api.PUT("/api/sites/{site}/costs", { params: { path: { site } }, body })),
    [keys.costs(site)],
    "quiet",
  );

export const useForget = (site: string) =>
  useAction(
    (devices: string[]) => must(api.POST("/api/sites/{site}/forget", { params: { path: { site } }, body: { devices } })),
    [keys.devices(site)],
  );

export function useConsent(site: string, device: string) {
  const path = { params: { path: { device } } };
  return useAction(
    (given: Body<"/api/devices/{device}/consent", "post"> | null) =>
      given
        ? must(api.POST("/api/devices/{device}/consent", { ...path, body: given }))
        : must(api.DELETE("/api/devices/{device}/consent", path)),
    [keys.devices(site)],
  );
}

export const useWatch = (site: string) =>
  useAction(
    (on: boolean) => must(api.PUT("/api/sites/{site}/watch", { params: { path: { site } }, body: { on } })),
    [keys.site(site)],
    "quiet",
  );

/** Makes a site, or changes the one of an ID; its ID comes back. */
export const useSaveSite = (site?: string) =>
  useAction(
    async ({ was, ...body }: Body<"/api/sites/{site}", "put">) => {
      if (!site) return (await must(api.POST("/api/sites", { body }))).id;
      await must(api.PUT("/api/sites/{site}", { params: { path: { site } }, body: { ...body, was } }));
      return site;
    },
    [[]],
    "quiet",
  );

export const useAddSignIn = () =>
  useAction(
    (body: Body<"/api/sign-ins", "post">) => must(api.POST("/api/sign-ins", { body })),
    [keys.signIns()],
    "quiet",
    (_, { label, user }) => {
      toast(`“${label || user}” is on the keyring`);
    },
  );

export const useOrderSignIns = () => useAction((ids: string[]) => must(api.PUT("/api/sign-ins", { body: { ids } })), [keys.signIns()]);

export const useBringSignIns = () =>
  useAction(
    async (file: File) => must(api.POST("/api/sign-ins/import", { body: { content: await base64(file) } })),
    [keys.signIns()],
    undefined,
    (out) => {
      toast(`${out.added} ${out.added === 1 ? "sign-in" : "sign-ins"} put on the keyring${out.known ? `, ${out.known} were there` : ""}`, {
        description: out.warnings.slice(0, 4).join(" ") || "Delete the file now: it holds passwords in the open.",
        duration: 10_000,
      });
    },
  );

export const useReveal = () =>
  useAction((sign_in: string) => must(api.POST("/api/sign-ins/{sign_in}/reveal", { params: { path: { sign_in } } })), []);

export const useDropSignIn = () =>
  useAction(
    ({ id }: SignIn) => must(api.DELETE("/api/sign-ins/{sign_in}", { params: { path: { sign_in: id } } })),
    [keys.signIns()],
    undefined,
    (_, { label }) => {
      toast(`“${label}” is off the keyring`);
    },
  );

export const useClaim = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/claim", "post">) => must(api.POST("/api/sites/{site}/claim", { params: { path: { site } }, body })),
    [keys.runs(site), keys.signIns()],
    "quiet",
  );

export const useAgree = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/agreements", "post">) =>
      must(api.POST("/api/sites/{site}/agreements", { params: { path: { site } }, body })),
    [keys.runs(site), keys.devices(site)],
    "quiet",
  );

export const useWithdraw = (site: string) =>
  useAction(
    (device: string) => must(api.DELETE("/api/devices/{device}/agreement", { params: { path: { device } } })),
    [keys.devices(site)],
  );

/** Sets aside that somebody at an address says to be a device. */
export const useDismiss = (site: string) =>
  useAction(
    (path: { device: string; address: string }) => must(api.DELETE("/api/devices/{device}/claims/{address}", { params: { path } })),
    [keys.devices(site)],
  );

/** Sets the storms of a site aside, and forgets the devices that they invented where there are any. */
export const useEndStorms = (site: string) =>
  useAction(
    async (invented: string[]) => {
      const path = { params: { path: { site } } };
      if (invented.length > 0) await must(api.POST("/api/sites/{site}/forget", { ...path, body: { devices: invented } }));
      return must(api.DELETE("/api/sites/{site}/storms", path));
    },
    [keys.site(site), keys.devices(site)],
  );

export const useTakeCertificate = () =>
  useAction(
    ({ device, sha256 }: { device: string; sha256: string }) =>
      must(api.POST("/api/devices/{device}/certificate", { params: { path: { device } }, body: { sha256 } })),
    [],
  );

export const useRoles = () =>
  useAction(
    ({ device, roles }: { device: string; roles: Record<string, string> }) =>
      must(api.PUT("/api/devices/{device}/roles", { params: { path: { device } }, body: { roles } })),
    [],
  );

export const usePaste = (site: string) =>
  useAction(
    (body: Body<"/api/sites/{site}/paste", "post">) => must(api.POST("/api/sites/{site}/paste", { params: { path: { site } }, body })),
    [keys.runs(site), keys.signIns()],
    "quiet",
  );

/** Takes a stream away that somebody has given by its URL, or puts it back. */
export const useGiven = (site: string) =>
  useAction(
    ({ device, ...body }: { device: string; token: string; back?: boolean }) =>
      must(api.PUT("/api/devices/{device}/given", { params: { path: { device } }, body })),
    [keys.devices(site)],
  );

export const useBringBook = () =>
  useAction(
    (yaml: string) => must(api.POST("/api/path-books", { body: { yaml } })),
    [keys.pathBooks()],
    "quiet",
    (out) => {
      toast(`${out.added} ${out.added === 1 ? "recipe" : "recipes"} added`);
    },
  );

export const useDropBook = () =>
  useAction((book: string) => must(api.DELETE("/api/path-books/{book}", { params: { path: { book } } })), [keys.pathBooks()]);

/** How a list that somebody brought along would be read: what its columns hold. Nothing is kept. */
export const useReadList = (site: string, file: File, columns?: string[]) =>
  useQuery({
    queryKey: ["read-list", site, file.name, file.size, file.lastModified, columns],
    queryFn: async () =>
      must(
        api.POST("/api/sites/{site}/address-list/columns", {
          params: { path: { site } },
          body: { content: await base64(file), columns },
        }),
      ),
    placeholderData: (before) => before,
    retry: false,
    staleTime: 0,
  });

/** What can be done with the address list that somebody brought along. */
export function useAddressList(site: string) {
  const path = { params: { path: { site } } };
  return {
    bring: useAction(
      async ({ file, columns }: { file: File; columns?: string[] }) =>
        must(api.PUT("/api/sites/{site}/address-list", { ...path, body: { content: await base64(file), columns } })),
      [keys.list(site)],
      "quiet",
    ),
    drop: useAction(() => must(api.DELETE("/api/sites/{site}/address-list", path)), [keys.list(site)]),
    useNames: useAction(
      () => must(api.POST("/api/sites/{site}/address-list/names", path)),
      [keys.devices(site)],
      undefined,
      (out) => {
        toast(`${out.named} ${out.named === 1 ? "device" : "devices"} named as the list does`);
      },
    ),
  };
}
