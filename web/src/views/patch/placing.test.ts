import { expect, test } from "vitest";
import type { Device, Fitting, Target } from "@/api/client";
import type { Row } from "@/parts/patch";
import { cellOf, copied, filling, filtered, slotsFor, tally } from "./placing";

const on = (target: string, state: string, slot = "") => ({ target, state, slot, gives: [], name: target });
const camera = (id: string, ...placements: object[]) => ({ id, name: id, placements }) as unknown as Device;
const target = (id: string) => ({ id, name: id }) as unknown as Target;
const fitting = (device: string, to: string, verdict: Fitting["verdict"]) =>
  [`${device} ${to}`, { device, target: to, verdict, reasons: [{ field: "codec", has: "H.265", wants: "H.264" }] }] as [string, Fitting];

const clock = camera("clock", on("vault", "confirmed", "4"), on("desk", "broken", "1"));
const tower = camera("tower", on("vault", "waiting", "5"));
const stairs = camera("stairs");
const shop = camera("shop");
const fittings = new Map([
  fitting("stairs", "vault", "fits"),
  fitting("shop", "vault", "cannot"),
  fitting("stairs", "desk", "after_tuning"),
  fitting("tower", "desk", "fits"),
]);

test("a cell says the slot and how it stands, or how well the camera would fit", () => {
  expect(cellOf(clock, target("vault"), fittings)).toMatchObject({ state: "confirmed", slot: "4" });
  expect(cellOf(stairs, target("vault"), fittings)).toMatchObject({ state: "free", verdict: "fits" });
  expect(cellOf(shop, target("vault"), fittings).says).toBe("It cannot: codec is H.265, it wants H.264");
  expect(cellOf(shop, target("desk"), fittings).verdict).toBe("unknown");
});

test("filling leaves what stands, and leaves out what cannot, with its reason", () => {
  const out = filling([clock, tower, stairs, shop], [target("vault"), target("desk")], fittings);
  expect(out.placements).toEqual([
    { device: "stairs", target: "vault" },
    { device: "tower", target: "desk" },
    { device: "stairs", target: "desk" },
    { device: "shop", target: "desk" },
  ]);
  expect(out.left.map((l) => [l.device.id, l.target.id, l.why])).toEqual([["shop", "vault", "It cannot: codec is H.265, it wants H.264"]]);
  expect(out.tune).toBe(true);
  expect(filling([stairs], [target("vault")], fittings).tune).toBe(false);
});

test("filtered by state, and counted", () => {
  const all = [clock, tower, stairs, shop];
  expect(filtered(all, "broken")).toEqual([clock]);
  expect(filtered(all, "free")).toEqual([stairs, shop]);
  expect(filtered(all, "all")).toBe(all);
  expect(tally(all)).toEqual({ confirmed: 1, waiting: 1, stale: 0, broken: 1, free: 2 });
});

test("what stands on one panel goes onto the next, in the same slots where they are free", () => {
  const rows = [
    { device: clock, slot: { token: "1" }, placement: { role: "sub" } },
    { device: stairs, slot: { token: "2" }, placement: {} },
    { slot: { token: "3" } },
    { device: tower, slot: { token: "4" }, placement: {} },
  ] as unknown as Row[];
  const to = {
    id: "vault",
    layout: {
      slots: [
        { token: "1", is: "free" },
        { token: "2", is: "used" },
      ],
    },
  } as unknown as Target;
  expect(copied(rows, { ...to, id: "panel" } as Target)).toEqual([
    { device: "clock", target: "panel", slot: "1", role: "sub" },
    { device: "stairs", target: "panel" },
    { device: "tower", target: "panel" },
  ]);
  expect(copied(rows, to).map((p) => p.device)).toEqual(["stairs"]); // the others stand there
});

test("the free slots after an entry come first, then those before it", () => {
  const slots = ["1", "2", "3", "4"].map((token) => ({ token, is: token === "2" ? "used" : "free" }));
  const to = { layout: { slots } } as unknown as Target;
  expect(slotsFor(to, "2").map((s) => s.token)).toEqual(["3", "4", "1"]);
  expect(slotsFor(to).map((s) => s.token)).toEqual(["1", "3", "4"]);
  expect(slotsFor({} as Target)).toEqual([]);
});
