import type { Device } from "@/api/client";
import { latchNames } from "@/parts/latches";

/** How somebody wants the line-up: which cameras, in which groups, with which columns. */
export type View = { only: Partial<Record<Facet, string[]>>; group: GroupBy; columns: Column[] };

export const facets = ["maker", "model", "target", "finding"] as const;
export type Facet = (typeof facets)[number];
export const facetNames: Record<Facet, string> = { maker: "Maker", model: "Model", target: "On", finding: "Finding" };

export const groups = ["none", "maker", "model", "at", "target"] as const;
export type GroupBy = (typeof groups)[number];
export const groupNames: Record<GroupBy, string> = {
  none: "no groups",
  maker: "maker",
  model: "model",
  at: "latch",
  target: "target",
};

export const columnNames = {
  main: "Main stream",
  sub: "Sub stream",
  on: "On",
  serial: "Serial number",
  mac: "MAC",
  firmware: "Firmware",
} as const;
export type Column = keyof typeof columnNames;

export const plainView: View = { only: {}, group: "none", columns: ["main", "sub", "on"] };

/** The values that a device has of a facet: several of "target" and "finding". */
function valuesOf(d: Device, facet: Facet): string[] {
  switch (facet) {
    case "maker":
      return [d.maker || "maker not told"];
    case "model":
      return [`${d.maker ?? ""} ${d.model ?? ""}`.trim() || "model not told"];
    case "target":
      return d.placements.length > 0 ? d.placements.map((p) => p.name) : ["no target"];
    case "finding":
      return [...(d.findings ?? []).map((f) => f.cause.replaceAll("_", " ")), ...(d.factory ? ["factory password"] : [])];
  }
}

/** What can be chosen from each facet, with how many cameras have it, the most first. */
export function choices(devices: Device[]): Record<Facet, { value: string; count: number }[]> {
  const out = {} as Record<Facet, { value: string; count: number }[]>;
  for (const facet of facets) {
    const n = new Map<string, number>();
    for (const d of devices) for (const v of new Set(valuesOf(d, facet))) n.set(v, (n.get(v) ?? 0) + 1);
    out[facet] = [...n].map(([value, count]) => ({ value, count })).sort((a, b) => b.count - a.count || a.value.localeCompare(b.value));
  }
  return out;
}

/** Whether a device passes: of each facet that is narrowed it must have one of the chosen values. */
export const passes =
  ({ only }: View) =>
  (d: Device) =>
    facets.every((f) => !only[f]?.length || valuesOf(d, f).some((v) => only[f]!.includes(v)));

/** How many values are chosen in all. */
export const narrowed = ({ only }: View) => facets.reduce((n, f) => n + (only[f]?.length ?? 0), 0);

/** A line between the rows: the group that begins here. */
export type Head = { head: string; count: number };

/** The devices with a head before each group; recorders and whatever has no group come as they are. A camera on several targets stands
 * with the first. */
export function grouped(devices: Device[], by: GroupBy): (Device | Head)[] {
  if (by === "none") return devices;
  const of = (d: Device) => (by === "at" ? (latchNames[d.at] ?? "All open") : valuesOf(d, by)[0]!);
  const groups = new Map<string, Device[]>();
  for (const d of devices) {
    const list = groups.get(of(d));
    if (list) list.push(d);
    else groups.set(of(d), [d]);
  }
  const order = by === "at" ? [...Object.values(latchNames), "All open"] : [...groups.keys()].sort((a, b) => a.localeCompare(b));
  return order.flatMap((head) => {
    const list = groups.get(head);
    return list ? [{ head, count: list.length }, ...list] : [];
  });
}

export const isHead = (x: Device | Head): x is Head => "head" in x;

/** The devices in the order in which their groups stand. */
export const inGroups = (devices: Device[], by: GroupBy) => grouped(devices, by).filter((x): x is Device => !isHead(x));

/** Reads a view as a browser has kept it; what it does not know is left out. */
export function readView(text: string | null): View {
  try {
    const v = JSON.parse(text ?? "{}") as Partial<View>;
    const only: View["only"] = {};
    for (const f of facets) {
      const list = v.only?.[f];
      if (Array.isArray(list)) only[f] = list.filter((x) => typeof x === "string");
    }
    return {
      only,
      group: groups.find((g) => g === v.group) ?? "none",
      columns: Array.isArray(v.columns) ? v.columns.filter((c) => c in columnNames) : plainView.columns,
    };
  } catch {
    return plainView;
  }
}
