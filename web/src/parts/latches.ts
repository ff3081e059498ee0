import type { Device, Latch } from "@/api/client";

/** The eight latches in the order in which they open, with what people call them. */
export const latchNames: Record<string, string> = {
  heard: "Heard",
  reachable: "Reachable",
  signed_in: "Signed in",
  located: "Located",
  proven: "Proven",
  tuned: "Tuned",
  placed: "Placed",
  confirmed: "Confirmed",
};

export const stateNames: Record<Latch["state"], string> = {
  open: "open",
  next: "next",
  stuck: "stuck",
  waived: "passed over",
  stale: "out of date",
  closed: "not yet",
  waiting: "waiting",
};

/** What waits where: cameras by the latch at which they stand; "" is done. */
export function funnel(devices: Device[]) {
  const at: Record<string, { waiting: number; stuck: number; forOthers: number }> = {};
  for (const key of [...Object.keys(latchNames), ""]) at[key] = { waiting: 0, stuck: 0, forOthers: 0 };
  for (const d of devices) {
    const slot = at[d.at];
    if (!slot) continue;
    slot.waiting++;
    if (isStuck(d)) slot.stuck++;
    if (isWaiting(d)) slot.forOthers++;
  }
  return at;
}

export const isStuck = (d: Device) => d.latches.some((l) => l.name === d.at && l.state === "stuck");

/** Whether a camera waits for somebody or something, and nothing stands in the way. */
export const isWaiting = (d: Device) => d.latches.some((l) => l.name === d.at && l.state === "waiting");

/** Cameras that can go on by pressing a button: not done, and not waiting for anybody or anything. */
export const canGoOn = (d: Device) => d.next.action === "open" && !isStuck(d) && !isWaiting(d);

export const streamOf = (d: Device, name: string) => d.streams.find((s) => s.role === name);

/** Devices of their own whose device service opens to a sign-in of the keyring: they can be asked for changes. */
export const serviceOpens = (d: Device) =>
  d.kind === "camera" && !d.via && !!d.grid?.some((r) => r.service === "device service" && r.state === "opens");

/** Whether Unlatch connects to a device: it is inside the site’s ranges, or somebody has agreed to connect to the stray. */
export const inScope = (d: Device) => !d.stray || !!d.consent;

/** Cameras that can be looked at live: those with a stream that plays. */
export const watchable = (d: Device) => d.kind === "camera" && !d.stray && d.streams.some((s) => s.proof?.ok);

/** The cameras that wait for a person to agree for a target. */
export const waitFor = (devices: Device[], target: string) =>
  devices.filter((d) => d.next.action === "agree_target" && d.next.target === target);
