import type { Device, Fitting, Target } from "@/api/client";
import { cordText, reasonsText, type Row } from "@/parts/patch";

/** Cells of the matrix of cameras and targets, and what becomes of those that are filled. */

export type Fittings = ReadonlyMap<string, Fitting>;
export type CellState = "confirmed" | "waiting" | "stale" | "broken" | "free";

/** One camera on one target. */
export type Cell = { state: CellState; slot: string; verdict: Fitting["verdict"]; says: string };

export function cellOf(device: Device, target: Target, fittings: Fittings): Cell {
  const fitting = fittings.get(`${device.id} ${target.id}`);
  const verdict = fitting?.verdict ?? "unknown";
  const p = device.placements.find((x) => x.target === target.id);
  if (p) return { state: p.state, slot: p.slot ?? "", verdict, says: cordText(p) };
  const words = { fits: "It fits.", after_tuning: "It fits after tuning: ", cannot: "It cannot: ", unknown: "" }[verdict];
  return { state: "free", slot: "", verdict, says: verdict === "fits" ? words : words + reasonsText(fitting) };
}

/** The cameras that a filter of the matrix lets through: with a cell of a state, or on no target at all. */
export function filtered(channels: Device[], only: CellState | "all") {
  if (only === "all") return channels;
  if (only === "free") return channels.filter((d) => d.placements.length === 0);
  return channels.filter((d) => d.placements.some((p) => p.state === only));
}

/** How many cells stand in each state; "free" counts the cameras on no target. */
export function tally(channels: Device[]): Record<CellState, number> {
  const n = { confirmed: 0, waiting: 0, stale: 0, broken: 0, free: 0 };
  for (const d of channels) {
    if (d.placements.length === 0) n.free++;
    for (const p of d.placements) n[p.state]++;
  }
  return n;
}

/** What Enter does with a rectangle of cells: what stands already stays, and what a target cannot take is left out with its reason. */
export function filling(devices: Device[], targets: Target[], fittings: Fittings) {
  const placements: { device: string; target: string }[] = [];
  const left: { device: Device; target: Target; why: string }[] = [];
  let tune = false;
  for (const target of targets)
    for (const device of devices) {
      const cell = cellOf(device, target, fittings);
      if (cell.state !== "free") continue;
      if (cell.verdict === "cannot") left.push({ device, target, why: cell.says });
      else {
        placements.push({ device: device.id, target: target.id });
        tune ||= cell.verdict === "after_tuning";
      }
    }
  return { placements, left, tune };
}

/** What of a target's rows goes onto another target: each camera that is not there yet, in the slot of the same name where that is free. */
export function copied(rows: Row[], to: Target) {
  const free = new Set((to.layout?.slots ?? []).filter((s) => s.is === "free").map((s) => s.token));
  return rows.flatMap(({ device, slot, placement }) => {
    if (!device || device.placements.some((p) => p.target === to.id)) return [];
    const role = placement?.role as "main" | "sub" | undefined;
    return [{ device: device.id, target: to.id, slot: slot && free.has(slot.token) ? slot.token : undefined, role: role || undefined }];
  });
}

/** The free slots of a target, those after `from` first. */
export function slotsFor(to: Target, from?: string) {
  const all = to.layout?.slots ?? [];
  const i = all.findIndex((s) => s.token === from);
  return [...all.slice(i + 1), ...all.slice(0, i + 1)].filter((s) => s.is === "free");
}
