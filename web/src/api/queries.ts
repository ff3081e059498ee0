import { QueryClient, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { toast } from "sonner";
import { apply, type Changes, type LineUp } from "./changes";
import { api, must, Problem, type Device } from "./client";
import { keys } from "./keys";

export const client = new QueryClient({
  defaultOptions: { queries: { retry: (n, e) => n < 3 && !(e instanceof Problem && e.status >= 400 && e.status < 500), staleTime: 2_000 } },
});

export const useSession = () => useQuery({ queryKey: keys.session(), queryFn: () => must(api.GET("/api/session")) });
export const useSites = () => useQuery({ queryKey: keys.sites(), queryFn: () => must(api.GET("/api/sites")) });
export const useSite = (site: string) =>
  useQuery({ queryKey: keys.site(site), queryFn: () => must(api.GET("/api/sites/{site}", { params: { path: { site } } })) });
export const useInterfaces = () => useQuery({ queryKey: keys.interfaces(), queryFn: () => must(api.GET("/api/interfaces")) });
export const useSignIns = () => useQuery({ queryKey: keys.signIns(), queryFn: () => must(api.GET("/api/sign-ins")) });
export const useDevices = (site: string) => {
  const q = useQueryClient();
  return useQuery({
    queryKey: keys.devices(site),
    queryFn: () => devicesNow(q, site),
    structuralSharing: false,
    select: (l: LineUp) => l.devices,
  });
};

/** The line-up as it is now: what has changed is asked for, and everything the first time. */
async function devicesNow(q: QueryClient, site: string): Promise<LineUp> {
  const known = () => q.getQueryData<LineUp>(keys.devices(site));
  const changes = await must(api.GET("/api/sites/{site}/changes", { params: { path: { site }, query: { since: known()?.version } } }));
  return apply(known(), changes); // what came over the events meanwhile counts too
}
export const useRuns = (site: string) =>
  useQuery({
    queryKey: keys.runs(site),
    queryFn: () => must(api.GET("/api/sites/{site}/runs", { params: { path: { site } } })),
    refetchInterval: (q) => (q.state.data?.some((r) => r.state === "running") ? 1_000 : false),
  });
export const useEvidence = (device: string) =>
  useQuery({
    queryKey: keys.evidence(device),
    queryFn: () => must(api.GET("/api/devices/{device}/evidence", { params: { path: { device } } })),
  });

/** Keeps a site's queries true: the server tells what has changed of its devices, and of the rest that it has changed. */
export function useSiteEvents(site: string) {
  const q = useQueryClient();
  useEffect(() => {
    const due = new Map<string, readonly unknown[]>();
    let timer = 0;
    const flush = () => {
      timer = 0;
      for (const [name, queryKey] of due) {
        if (q.isFetching({ queryKey }) > 0) continue; // an answer under way is waited for
        due.delete(name);
        q.invalidateQueries({ queryKey });
      }
      if (due.size > 0) timer = window.setTimeout(flush, 250);
    };
    const want = (...wanted: (readonly unknown[])[]) => {
      for (const k of wanted) due.set(k.join(" "), k);
      timer ||= window.setTimeout(flush, 250);
    };
    const version = q.getQueryData<LineUp>(keys.devices(site))?.version ?? "";
    const events = new EventSource(`/api/sites/${site}/events?since=${encodeURIComponent(version)}`);
    // While the server or its database is away, ask until it is back.
    const away = window.setInterval(() => {
      if (q.getQueryState(keys.devices(site))?.status === "error") want(keys.devices(site), keys.runs(site));
    }, 2_000);
    events.addEventListener("changes", (e) => {
      const changes = JSON.parse((e as MessageEvent<string>).data) as Changes;
      q.setQueryData<LineUp>(keys.devices(site), (before) => apply(before, changes));
      want(...changes.devices.map((d) => keys.evidence(d.id)), keys.signIns());
    });
    events.addEventListener("run", () => want(keys.runs(site)));
    events.addEventListener("site", () => want(keys.devices(site), keys.runs(site), keys.site(site), keys.allEvidence()));
    return () => {
      events.close();
      clearInterval(away);
      clearTimeout(timer);
    };
  }, [site, q]);
}

/** Keeps the cards of all sites true. */
export function useSitesEvents() {
  const q = useQueryClient();
  useEffect(() => {
    const events = new EventSource("/api/events");
    const ask = () => q.invalidateQueries({ queryKey: keys.sites() });
    events.addEventListener("sites", ask);
    events.addEventListener("site", ask);
    return () => events.close();
  }, [q]);
}

/** Whether the server has what it needs; looked at now and then. */
export const useHealth = () =>
  useQuery({ queryKey: keys.health(), queryFn: () => must(api.GET("/api/health")), refetchInterval: 60_000, retry: false });

/** Shows a problem as a toast, with its fix. */
export function say(e: unknown) {
  if (e instanceof Problem) toast.error(e.message, { description: e.fix });
  else toast.error(String(e));
}

export function useOpenLatches(site: string) {
  const q = useQueryClient();
  return useMutation({
    mutationFn: (body: { devices: string[]; target?: string; again?: boolean; retry?: boolean }) =>
      must(api.POST("/api/sites/{site}/open", { params: { path: { site } }, body })),
    onSuccess: () => q.invalidateQueries({ queryKey: keys.runs(site) }),
    onError: say,
  });
}

export function useSweep(site: string) {
  const q = useQueryClient();
  return useMutation({
    mutationFn: (confirm: boolean) =>
      must(api.POST("/api/sites/{site}/sweeps", { params: { path: { site } }, body: { confirm_large: confirm } })),
    onSuccess: () => q.invalidateQueries({ queryKey: keys.runs(site) }),
  });
}

export function useRename(site: string) {
  const q = useQueryClient();
  const rename = async (device: string, name: string) =>
    must(api.PATCH("/api/devices/{device}", { params: { path: { device } }, body: { name } }));
  return useMutation({
    mutationFn: ({ device, name }: { device: string; name: string }) => rename(device, name),
    onSuccess: (out, { device, name }) => {
      q.invalidateQueries({ queryKey: keys.devices(site) });
      toast(name ? `Named “${name}”` : "Name taken back", {
        action: { label: "Undo", onClick: () => rename(device, out.before).catch(say) },
      });
    },
    onError: say,
  });
}

export function useRemove(site: string) {
  const q = useQueryClient();
  return useMutation({
    mutationFn: (body: { devices: string[]; target: string }) =>
      must(api.POST("/api/sites/{site}/remove", { params: { path: { site } }, body })),
    onSuccess: () => q.invalidateQueries({ queryKey: keys.runs(site) }),
    onError: say,
  });
}

type AddressLine = {
  device: string;
  address?: string;
  dhcp?: boolean;
  bits?: number;
  gateway?: string;
  dns?: string;
  ntp?: string;
  host?: string;
  time_zone?: string;
  clock?: boolean;
  no_dns?: boolean;
  no_ntp?: boolean;
};

export function useReaddress(site: string) {
  const q = useQueryClient();
  return useMutation({
    mutationFn: (body: { title: string; lines: AddressLine[] }) =>
      must(api.POST("/api/sites/{site}/addresses", { params: { path: { site } }, body })),
    onSuccess: () => q.invalidateQueries({ queryKey: keys.runs(site) }),
  });
}

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

type Remedy = { action: "streams" | "clock" | "stream_user"; devices: Device[]; undo?: boolean; user?: string; each?: boolean };

/** Mends one thing on devices; the toast takes it back. */
export function useRemedy(site: string) {
  const q = useQueryClient();
  const send = async ({ devices, ...rest }: Remedy) =>
    must(api.POST("/api/sites/{site}/remedies", { params: { path: { site } }, body: { devices: devices.map((d) => d.id), ...rest } }));
  return useMutation({
    mutationFn: send,
    onSuccess: () => {
      q.invalidateQueries({ queryKey: keys.runs(site) });
      q.invalidateQueries({ queryKey: keys.signIns() });
    },
  });
}

export function useForget(site: string) {
  const q = useQueryClient();
  return useMutation({
    mutationFn: (devices: string[]) => must(api.POST("/api/sites/{site}/forget", { params: { path: { site } }, body: { devices } })),
    onSuccess: () => q.invalidateQueries({ queryKey: keys.devices(site) }),
    onError: say,
  });
}

export const useGuidance = (device: string) =>
  useQuery({
    queryKey: keys.guidance(device),
    queryFn: () => must(api.GET("/api/devices/{device}/guidance", { params: { path: { device } } })),
  });

export function useConsent(site: string, device: string) {
  const q = useQueryClient();
  const path = { params: { path: { device } } };
  return useMutation({
    mutationFn: (given: { address: string; reason: string } | null) =>
      given
        ? must(api.POST("/api/devices/{device}/consent", { ...path, body: given }))
        : must(api.DELETE("/api/devices/{device}/consent", path)),
    onSuccess: () => q.invalidateQueries({ queryKey: keys.devices(site) }),
    onError: say,
  });
}

export function useWatch(site: string) {
  const q = useQueryClient();
  return useMutation({
    mutationFn: (on: boolean) => must(api.PUT("/api/sites/{site}/watch", { params: { path: { site } }, body: { on } })),
    onSuccess: () => q.invalidateQueries({ queryKey: keys.site(site) }),
  });
}
