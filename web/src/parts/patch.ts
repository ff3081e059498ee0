import type { Device, Fitting, Left, Target } from "@/api/client";
import { ago } from "./measures";

type Placement = Device["placements"][number];

/** How a cord stands: what the server says of its placement. */
export type CordState = Placement["state"];
type Slot = NonNullable<Target["layout"]>["slots"][number];

/** One row at the right: the head of a target, one of its slots, or a word about it. */
export type Row = {
  key: string;
  kind: "head" | "slot" | "word";
  target: Target;
  slot?: Slot;
  device?: Device;
  placement?: Placement;
  y: number;
  h: number;
};

/** A cord from a channel to a row. */
export type Cord = { device: Device; row: Row; placement: Placement; state: CordState };

export const channelHeight = 40;
const heights = { head: 64, slot: 36, word: 44 } as const;
const gap = 14;

/** Kinds that take as many cameras as they are given. */
export const endless = (t: Target) => t.kind === "hub" || t.kind === "feed" || t.kind === "template";

/** The rows of all targets, one below the other, with what stands in each. */
export function rowsOf(targets: Target[], devices: Device[]): Row[] {
  const byID = new Map(devices.map((d) => [d.id, d]));
  const placed = new Map<string, { device: Device; placement: Placement }[]>();
  for (const device of devices)
    for (const placement of device.placements) {
      const list = placed.get(placement.target);
      if (list) list.push({ device, placement });
      else placed.set(placement.target, [{ device, placement }]);
    }
  const rows: Row[] = [];
  let y = 0;
  const add = (r: Omit<Row, "y" | "h">) => {
    rows.push({ ...r, y, h: heights[r.kind] });
    y += heights[r.kind];
  };
  for (const target of targets) {
    add({ key: target.id, kind: "head", target });
    const here = placed.get(target.id) ?? [];
    const shown = new Set<string>();
    const slots = target.layout?.slots ?? [];
    if (target.kind !== "hub" && target.kind !== "feed" && target.kind !== "template")
      for (const slot of slots) {
        const at = here.find(
          ({ device, placement: p }) => !shown.has(device.id) && (p.token ? p.token === slot.token : !p.slot && p.wanted === slot.token),
        );
        if (at) shown.add(at.device.id);
        add({ key: `${target.id} ${slot.token}`, kind: "slot", target, slot, device: at?.device, placement: at?.placement });
      }
    const order = new Map(target.wanted.map((id, i) => [id, i]));
    const rest = here
      .filter(({ device }) => !shown.has(device.id))
      .sort((a, b) => (order.get(a.device.id) ?? 0) - (order.get(b.device.id) ?? 0));
    for (const { device, placement } of rest) {
      const slot: Slot = { token: "", label: placement.slot || "wanted", is: "used" };
      add({ key: `${target.id} ${device.id}`, kind: "slot", target, slot, device: byID.get(device.id), placement });
    }
    if (endless(target)) add({ key: `${target.id} next`, kind: "slot", target, slot: { token: "", label: "add here", is: "free" } });
    else if (slots.length === 0) add({ key: `${target.id} none`, kind: "word", target });
    y += gap;
  }
  return rows;
}

export const cordsOf = (rows: Row[]): Cord[] =>
  rows.flatMap((row) =>
    row.device && row.placement ? [{ device: row.device, row, placement: row.placement, state: row.placement.state }] : [],
  );

/** What a cord says in words, for people who do not see it. */
export function cordText(p: Placement): string {
  if (p.diagnosis) return p.diagnosis.summary;
  if (p.moved) return `It still has the old ${p.old || "URL"}.`;
  if (p.silent_since) return `It cannot be asked since ${ago(p.silent_since)}; what it said before is old.`;
  if (p.confirmed) {
    const age = p.confirmed_at ? `, ${ago(p.confirmed_at)}` : "";
    if (!p.report) return `Somebody has looked: it shows the picture${age}.`;
    return `It reports ${p.report}${p.match ? `; its picture: ${p.match}` : ""}${age}.`;
  }
  if (p.slot) return "It has the camera and has not confirmed the picture.";
  return "Wanted, and not placed yet.";
}

/** The slots that cameras go into, in order; "" where the target chooses them itself. */
export function intoText(slots: { slot: string }[]): string {
  if (slots.length === 0) return "";
  const first = slots[0]!.slot;
  return slots.length === 1 ? `Into ${first}` : `Into ${first} … ${slots.at(-1)!.slot}, in this order`;
}

/** The cameras that there is no slot for, with the reason of the first. */
export function leftText(left: Left[]): string {
  const first = left[0];
  if (!first) return "";
  const who = left.length === 1 ? `${first.name} is left out: ` : `${left.length} are left out, ${first.name} first: `;
  return `${who}${first.reason} ${first.fix}`;
}

/** Counts of a target's slots. */
export function countsOf(t: Target) {
  const n = { free: 0, used: 0, blocked: 0, locked: 0 };
  for (const s of t.layout?.slots ?? []) n[s.is as keyof typeof n]++;
  return n;
}

/** The index of the first row that ends below y. */
export function rowAt(rows: { y: number; h: number }[], y: number): number {
  let low = 0;
  let high = rows.length;
  while (low < high) {
    const mid = (low + high) >> 1;
    const r = rows[mid]!;
    if (r.y + r.h <= y) low = mid + 1;
    else high = mid;
  }
  return low;
}

/** Whether a row takes a plug, and how well: its own verdict for all that are carried. */
export function plugOn(row: Row, carried: Device[], fittings: Map<string, Fitting>): Fitting["verdict"] | "taken" | null {
  if (row.kind !== "slot" || !row.slot) return null;
  if (row.slot.is === "locked" || row.slot.is === "blocked") return "taken";
  if (row.device && carried.length > 1) return "taken";
  if (!row.device && row.slot.is === "used") return "taken";
  return worstOf(carried, row.target.id, fittings);
}

/** The verdict of a target on several cameras: that on the one which fits least. */
export function worstOf(cameras: Device[], target: string, fittings: Map<string, Fitting>): Fitting["verdict"] {
  const order = ["cannot", "unknown", "after_tuning", "fits"] as const;
  let worst = 3;
  for (const d of cameras) {
    const f = fittings.get(`${d.id} ${target}`);
    worst = Math.min(worst, f ? order.indexOf(f.verdict) : 1);
  }
  return order[worst]!;
}

/** What fits in words. */
export function reasonsText(f?: Fitting): string {
  if (!f) return "";
  if (f.verdict === "unknown") return "Its streams are not proven yet.";
  const names: Record<string, string> = {
    fps: "frame rate",
    bitrate_kbps: "bitrate",
    gop_seconds: "key-frame interval",
    role: "stream",
    way: "way",
  };
  const text = ({ field, has, wants }: { field: string; has: string; wants: string }) =>
    field === "role" && has === "no such stream"
      ? `it wants the ${wants} stream, which the camera does not have`
      : `${names[field] ?? field} is ${has}, it wants ${wants}`;
  return (f.reasons ?? []).map(text).join("; ");
}

/** What is taken in the hand: cameras whose cord is carried, and the row that it was pulled out of. */
export type Hand = { devices: Device[]; from?: Row };

/** What letting go leads to. */
export type Drop =
  | { does: "nothing" }
  | { does: "take off"; device: string; target: Target; slot?: string }
  | { does: "move"; device: string; target: string; slot: string; from?: string }
  | { does: "refuse"; cannot?: boolean; problem: string; why: string }
  | { does: "fill"; target: string; devices: string[]; start: string; tune: boolean }
  | { does: "place"; placements: { device: string; target: string; slot?: string; replaces?: string }[]; tune: boolean; name: string };

/** What becomes of what is carried when it is let go over a row; away is for a plug that was pulled right out, back to the channels. */
export function dropOn(hand: Hand, row: Row | undefined, away: boolean, fittings: Map<string, Fitting>): Drop {
  const first = hand.devices[0];
  if (!first) return { does: "nothing" };
  if (row?.kind !== "slot") {
    if (!hand.from?.placement || !away || row) return { does: "nothing" };
    return { does: "take off", device: first.id, target: hand.from.target, slot: hand.from.slot?.token };
  }
  const slot = row.slot?.token || undefined;
  if (hand.from?.target.id === row.target.id) {
    if (hand.from.key === row.key || !slot) return { does: "nothing" };
    return { does: "move", device: first.id, target: row.target.id, slot, from: hand.from.slot?.token };
  }
  const verdict = plugOn(row, hand.devices, fittings);
  if (verdict === "taken" || verdict === "cannot") {
    const problem = verdict === "taken" ? `${row.slot?.label || "That slot"} is not free.` : `${row.target.name} cannot take it.`;
    return {
      does: "refuse",
      cannot: verdict === "cannot",
      problem,
      why: row.slot?.why || reasonsText(fittings.get(`${first.id} ${row.target.id}`)),
    };
  }
  const tune = verdict === "after_tuning";
  if (hand.devices.length > 1 && slot && !endless(row.target))
    return { does: "fill", target: row.target.id, devices: hand.devices.map((d) => d.id), start: slot, tune };
  const placements = hand.devices.map((d) => ({
    device: d.id,
    target: row.target.id,
    slot: row.slot?.is === "free" || row.device ? slot : undefined,
    replaces: row.device && row.device.id !== d.id ? row.device.id : undefined,
  }));
  return { does: "place", placements, tune, name: row.target.name };
}

/** What a row is to what is carried, in words for people who do not see it. */
export function rowText(row: Row, carried: Device[], fittings: Map<string, Fitting>): string {
  const verdict = plugOn(row, carried, fittings);
  const words = { fits: "fits", after_tuning: "fits after tuning", cannot: "cannot", unknown: "not proven yet", taken: "not free" };
  const at = row.kind === "head" ? "its head" : row.slot?.label || row.slot?.token;
  return `${row.target.name}, ${at}${verdict ? `: ${words[verdict]}` : ""}`;
}
