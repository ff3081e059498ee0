import type { components } from "./schema";
import type { Device } from "./client";

export type Changes = components["schemas"]["ChangesView"];

/** The devices of a site with the version that they have. */
export type LineUp = { version: string; devices: Device[] };

/** The part of a version that counts; undefined where the two are of different servers. */
function newer(a: string, b: string): number | undefined {
  const [x, m] = a.split("-");
  const [y, n] = b.split("-");
  return x === y ? Number(m) - Number(n) : undefined;
}

/** An address as something to sort by: numbers by their value. */
const order = (a: string) =>
  a
    .split(".")
    .map((part) => part.padStart(3, "0"))
    .join(".");

/**
 * Brings a line-up up to date. Changes since an earlier version than ours fit too, since each device comes whole; an answer that
 * was asked for
 * before what we have came is old and changes nothing. Devices that are as they were keep their objects, so that nothing of them
 * is drawn again.
 */
export function apply(before: LineUp | undefined, c: Changes): LineUp {
  const ahead = before && newer(c.version, before.version);
  if (before && ahead !== undefined && ahead < 0) return before;
  const known = new Map(before?.devices.map((d) => [d.id, d]));
  const keep = (d: Device) => (known.get(d.id)?.revision === d.revision ? known.get(d.id)! : d);
  if (!c.since || !before) return { version: c.version, devices: c.devices.map(keep) };
  const now = new Map(known);
  for (const id of c.gone) now.delete(id);
  for (const d of c.devices) now.set(d.id, keep(d));
  const devices = [...now.values()];
  const moved = c.devices.some((d) => known.get(d.id)?.address !== d.address);
  if (moved)
    devices.sort((a, b) => (order(a.address) < order(b.address) ? -1 : order(a.address) > order(b.address) ? 1 : a.id < b.id ? -1 : 1));
  return { version: c.version, devices };
}
