import type { Device, Latch } from "@/api/client";

/** The state of the latch that a camera stands at; "open" where every latch is. */
export const stateOf = (d: Device): Latch["state"] => {
  const at = d.latches.find((l) => l.name === d.at);
  if (!at) return "open";
  return at.state === "closed" ? "next" : at.state;
};
