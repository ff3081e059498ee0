import { describe, expect, it } from "vitest";
import type { Device, Latch } from "@/api/client";
import { canGoOn, funnel, isStuck, latchNames } from "./latches";

function camera(at: string, state: Latch["state"], action: Device["next"]["action"] = "open"): Device {
  const names = Object.keys(latchNames);
  const latches = names.map(
    (name, i): Latch => ({ name, state: name === at ? state : at === "" || i < names.indexOf(at) ? "open" : "closed" }),
  );
  return { id: at + state, at, latches, next: { action, label: "", reason: "" }, kind: "camera" } as unknown as Device;
}

describe("the funnel", () => {
  it("counts each camera once, where it waits", () => {
    const at = funnel([
      camera("proven", "next"),
      camera("proven", "stuck"),
      camera("", "open"),
      camera("placed", "next", "place"),
      camera("confirmed", "waiting"),
    ]);
    expect(at.proven).toEqual({ waiting: 2, stuck: 1, forOthers: 0 });
    expect(at.confirmed).toEqual({ waiting: 1, stuck: 0, forOthers: 1 });
    expect(at[""]).toEqual({ waiting: 1, stuck: 0, forOthers: 0 });
    expect(Object.values(at).reduce((n, s) => n + s.waiting, 0)).toBe(5);
  });
  it("passes over a latch that it does not know", () => {
    expect(Object.keys(funnel([camera("polished", "next")]))).toHaveLength(9);
  });
});

describe("what can go on", () => {
  it("is neither stuck nor done nor waiting for a choice", () => {
    expect(canGoOn(camera("located", "next"))).toBe(true);
    expect(canGoOn(camera("located", "stale"))).toBe(true);
    expect(canGoOn(camera("located", "stuck"))).toBe(false);
    expect(canGoOn(camera("confirmed", "waiting"))).toBe(false);
    expect(canGoOn(camera("placed", "next", "place"))).toBe(false);
    expect(canGoOn(camera("", "open", "none"))).toBe(false);
    expect(isStuck(camera("signed_in", "stuck"))).toBe(true);
  });
});
