import { api, must, type Device, type Preset, type Site } from "@/api/client";
import { canGoOn } from "@/parts/latches";

/** What may be done at many sites at once. */
export type Doing = "sweep" | "open" | "look" | "preset" | "user";

/** What is done, with what it takes. */
export type Order = { doing: Doing; preset?: Preset; user: string };

/** What an order will do at one site, as it is shown before: in words, and whether there is anything to do. */
export type Forecast = { text: string; any: boolean };

const cameras = (n: number) => (n === 1 ? "1 camera" : `${n} cameras`);

/** Devices of a site that an order is for. */
const devicesFor = async (site: string, doing: Doing): Promise<Device[]> => {
  const all = await must(api.GET("/api/sites/{site}/devices", { params: { path: { site } } }));
  return doing === "open" ? all.filter(canGoOn) : all.filter((d) => d.kind === "camera" && !d.stray);
};

/** Says what an order will do at a site. Nothing is done. */
export async function forecast(site: Site, order: Order): Promise<Forecast> {
  switch (order.doing) {
    case "sweep":
      return { text: `${site.addresses} addresses are asked, and what answers is opened`, any: true };
    case "open":
      return { text: site.can_go_on ? `${cameras(site.can_go_on)} can go on` : "No camera can go on", any: site.can_go_on > 0 };
    case "look":
      return { text: site.cameras ? `${cameras(site.cameras)}, those that are watched` : "No camera yet", any: site.cameras > 0 };
    case "preset":
      return { text: `The site’s plan is replaced; ${cameras(site.cameras)} take it when it is sent`, any: true };
    case "user": {
      const devices = (await devicesFor(site.id, "user")).map((d) => d.id);
      if (devices.length === 0) return { text: "No camera yet", any: false };
      const out = await must(
        api.POST("/api/sites/{site}/fixes", {
          params: { path: { site: site.id }, query: { try: true } },
          body: { devices, action: "stream_user", user: order.user },
        }),
      );
      const left = out.left?.length ?? 0;
      return { text: `${cameras(devices.length - left)}${left ? `; ${left} left out` : ""}`, any: devices.length > left };
    }
  }
}

/** Begins an order at a site. It is the same act that the page of the site begins, and stands in the record as that. */
export async function begin(site: Site, order: Order): Promise<void> {
  const params = { path: { site: site.id } };
  switch (order.doing) {
    case "sweep":
      return void (await must(api.POST("/api/sites/{site}/sweeps", { params, body: { open: true, confirm_large: true } })));
    case "look":
      return void (await must(api.POST("/api/sites/{site}/rounds/now", { params })));
    case "preset":
      return void (await must(api.PUT("/api/sites/{site}/plans", { params, body: { owner: "site", plan: order.preset?.plan ?? {} } })));
  }
  const devices = (await devicesFor(site.id, order.doing)).map((d) => d.id);
  if (order.doing === "open") return void (await must(api.POST("/api/sites/{site}/open", { params, body: { devices } })));
  await must(api.POST("/api/sites/{site}/fixes", { params, body: { devices, action: "stream_user", user: order.user } }));
}

/** Stops the runs of a site that have begun since a time; it returns how many those were. */
export async function stop(site: Site, since: Date): Promise<number> {
  const runs = await must(api.GET("/api/sites/{site}/runs", { params: { path: { site: site.id } } }));
  const going = runs.filter((r) => r.state === "running" && new Date(r.created_at) >= since);
  for (const r of going) await must(api.POST("/api/runs/{run}/stop", { params: { path: { run: r.id } } }));
  return going.length;
}
