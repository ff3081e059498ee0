import { QueryClient, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { apply, type Changes, type LineUp } from "./changes";
import { api, type Fitting, must, Problem } from "./client";
import { keys } from "./keys";

export const client = new QueryClient({
  defaultOptions: { queries: { retry: (n, e) => n < 3 && !(e instanceof Problem && e.status >= 400 && e.status < 500), staleTime: 2_000 } },
});

export const useSession = () => useQuery({ queryKey: keys.session(), queryFn: () => must(api.GET("/api/session")) });
/** Whether whoever is signed in has a right. Where that is not known it is offered: the server decides at each act. */
export function useMay() {
  const { data } = useSession();
  return (right: Right) => data?.rights.includes(right) ?? true;
}
export type Right = "look" | "see" | "inspect" | "work" | "reveal" | "arrange" | "administer";

export const usePeople = () => useQuery({ queryKey: keys.people(), queryFn: () => must(api.GET("/api/people")) });
export const useOwnSessions = () => useQuery({ queryKey: keys.sessions(), queryFn: () => must(api.GET("/api/session/all")) });
export const useFactors = () => useQuery({ queryKey: keys.factors(), queryFn: () => must(api.GET("/api/session/factors")) });
export const useTokens = () => useQuery({ queryKey: keys.tokens(), queryFn: () => must(api.GET("/api/tokens")) });
/** Whether the record holds; asked when somebody wants to know. */
export const useVerifiedRecord = () =>
  useQuery({ queryKey: keys.verifiedRecord(), queryFn: () => must(api.GET("/api/audit/verify")), enabled: false, retry: false, gcTime: 0 });

export const useRecordChoices = () => useQuery({ queryKey: keys.recordChoices(), queryFn: () => must(api.GET("/api/audit/choices")) });
export const useCameras = (site: string) =>
  useQuery({
    queryKey: keys.cameras(site),
    queryFn: () => must(api.GET("/api/sites/{site}/cameras", { params: { path: { site } } })),
    refetchInterval: 10_000,
  });
export const useSites = (every?: number) =>
  useQuery({ queryKey: keys.sites(), queryFn: () => must(api.GET("/api/sites")), refetchInterval: every });
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
export const useMulticast = (site: string) =>
  useQuery({
    queryKey: keys.multicast(site),
    queryFn: () => must(api.GET("/api/sites/{site}/multicast", { params: { path: { site } } })),
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
      want(
        ...changes.devices.map((d) => keys.evidence(d.id)),
        keys.signIns(),
        keys.budgets(site),
        keys.fittings(site),
        keys.multicast(site),
      );
      // A target's view says what it waits for, and whose sign-ins it is given: that comes from its cameras.
      if (changes.devices.some((d) => d.kind === "recorder" || d.next.action === "agree_target")) want(keys.targets(site));
    });
    events.addEventListener("page", (e) => q.setQueryData<string>(keys.page(site), (e as MessageEvent<string>).data));
    events.addEventListener("here", (e) => q.setQueryData<Present[]>(keys.here(site), JSON.parse((e as MessageEvent<string>).data)));
    events.addEventListener("target", (e) => want(keys.targets(site), keys.targetHistory((e as MessageEvent<string>).data)));
    events.addEventListener("drift", () => want(keys.drifts(site)));
    events.addEventListener("handover", () => want(keys.handover(site)));
    events.addEventListener("tell", () => want(keys.tellings(site)));
    events.addEventListener("site-plan", () => want(keys.sitePlans(site)));
    events.addEventListener("run", () => want(keys.runs(site), keys.multicast(site)));
    events.addEventListener("site", () =>
      want(keys.devices(site), keys.runs(site), keys.site(site), keys.allEvidence(), keys.plans(site), keys.targets(site)),
    );
    return () => {
      events.close();
      clearInterval(away);
      clearTimeout(timer);
    };
  }, [site, q]);
}

/** Somebody else who looks at a site, with the cameras that they have open. */
export type Present = { name: string; devices: string[] };

/** Who else looks at a site, and says to them which camera is open here. The site's events bring both. */
export function useHere(site: string, device?: string): Present[] {
  const page = useQuery<string>({ queryKey: keys.page(site), enabled: false }).data;
  const others = useQuery<Present[]>({ queryKey: keys.here(site), enabled: false }).data;
  useEffect(() => {
    if (page) void api.PUT("/api/sites/{site}/here", { params: { path: { site } }, body: { page, device } }).catch(() => {});
  }, [site, page, device]);
  return others ?? [];
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

/** Devices of all sites that hold a text of two letters or more. */
export const useSearch = (text: string) =>
  useQuery({
    queryKey: keys.search(text),
    queryFn: () => must(api.GET("/api/search", { params: { query: { text } } })),
    enabled: text.length >= 2,
    placeholderData: (before) => before,
  });

/** Which versions of firmware run where, on all sites. */
export const useFirmware = () => useQuery({ queryKey: keys.firmware(), queryFn: () => must(api.GET("/api/firmware")) });

/** Whether the server has what it needs; looked at now and then. */
export const useHealth = () =>
  useQuery({
    queryKey: keys.health(),
    queryFn: () => must(api.GET("/api/health")),
    refetchInterval: ({ state }) => (state.data?.preparing ? 1_000 : 60_000),
    retry: false,
  });

export const useGuidance = (device: string) =>
  useQuery({
    queryKey: keys.guidance(device),
    queryFn: () => must(api.GET("/api/devices/{device}/guidance", { params: { path: { device } } })),
  });

export const usePathBooks = () => useQuery({ queryKey: keys.pathBooks(), queryFn: () => must(api.GET("/api/path-books")) });

export const usePlans = (site: string) =>
  useQuery({
    queryKey: keys.plans(site),
    queryFn: () => must(api.GET("/api/sites/{site}/plans", { params: { path: { site } } })),
  });

export const usePresets = () => useQuery({ queryKey: keys.presets(), queryFn: () => must(api.GET("/api/presets")) });

export const useIntakes = () => useQuery({ queryKey: keys.intakes(), queryFn: () => must(api.GET("/api/intakes")) });

export const useTargets = (site: string, enabled = true) =>
  useQuery({
    enabled,
    queryKey: keys.targets(site),
    queryFn: () => must(api.GET("/api/sites/{site}/targets", { params: { path: { site } } })),
  });

/** Whether targets would take cameras, by camera and target. */
export const useFittings = (site: string, devices: string[], wanted = true) =>
  useQuery({
    enabled: wanted,
    queryKey: [...keys.fittings(site), devices.join()],
    queryFn: () => must(api.POST("/api/sites/{site}/fittings", { params: { path: { site } }, body: { devices } })),
    select: (list: Fitting[]) => new Map(list.map((f) => [`${f.device} ${f.target}`, f])),
    placeholderData: (before) => before,
  });

/** What a target has said, newest first. */
export const useTargetHistory = (site: string, target: string) =>
  useQuery({
    queryKey: keys.targetHistory(target),
    queryFn: () => must(api.GET("/api/sites/{site}/targets/{target}/history", { params: { path: { site, target } } })),
  });

export const useTemplateExamples = () =>
  useQuery({ queryKey: keys.examples(), queryFn: () => must(api.GET("/api/template-examples")), staleTime: Number.POSITIVE_INFINITY });

/** What the encoders of each model get through, as was learned when they were set. */
export const useBudgets = (site: string) =>
  useQuery({
    queryKey: keys.budgets(site),
    queryFn: () => must(api.GET("/api/sites/{site}/budgets", { params: { path: { site } } })),
  });

/** How a site is recorded, as somebody has said. */
export const useRecording = (site: string) =>
  useQuery({
    queryKey: keys.costs(site),
    queryFn: () => must(api.GET("/api/sites/{site}/costs", { params: { path: { site } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
