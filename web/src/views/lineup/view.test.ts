import { expect, test } from "vitest";
import type { Device } from "@/api/client";
import { choices, grouped, isHead, narrowed, passes, plainView, readView } from "./view";

const camera = (name: string, more: object = {}) =>
  ({ name, maker: "Corvane", model: "V4", at: "placed", placements: [], findings: [], ...more }) as unknown as Device;
const clock = camera("clock", { placements: [{ name: "Vault" }, { name: "Desk" }], at: "" });
const tower = camera("tower", { findings: [{ cause: "address_twice" }] });
const stairs = camera("stairs", { maker: "Ostrel", model: "E2", placements: [{ name: "Desk" }], factory: "admin" });
const all = [clock, tower, stairs];

test("what can be chosen is counted, the most first", () => {
  expect(choices(all).maker).toEqual([
    { value: "Corvane", count: 2 },
    { value: "Ostrel", count: 1 },
  ]);
  expect(choices(all).target.map((c) => `${c.value} ${c.count}`)).toEqual(["Desk 2", "no target 1", "Vault 1"]);
  expect(choices(all).finding.map((c) => c.value)).toEqual(["address twice", "factory password"]);
});

test("of each facet one chosen value is enough, and all facets count", () => {
  const names = (only: object) => all.filter(passes({ ...plainView, only })).map((d) => d.name);
  expect(names({})).toEqual(["clock", "tower", "stairs"]);
  expect(names({ target: ["Vault", "no target"] })).toEqual(["clock", "tower"]);
  expect(names({ target: ["Desk"], maker: ["Ostrel"] })).toEqual(["stairs"]);
  expect(names({ maker: [] })).toHaveLength(3);
  expect(narrowed({ ...plainView, only: { maker: ["a"], target: ["b", "c"] } })).toBe(3);
});

test("groups have a head with a number, latches in their own order", () => {
  const heads = (by: "maker" | "at" | "none") => grouped(all, by).map((x) => (isHead(x) ? `${x.head} ${x.count}` : x.name));
  expect(heads("none")).toEqual(["clock", "tower", "stairs"]);
  expect(heads("maker")).toEqual(["Corvane 2", "clock", "tower", "Ostrel 1", "stairs"]);
  expect(heads("at")).toEqual(["Placed 2", "tower", "stairs", "All open 1", "clock"]);
});

test("a kept view is read, and what is no view gives the plain one", () => {
  const kept = { only: { maker: ["Ostrel"] }, group: "model", columns: ["on", "serial"] };
  expect(readView(JSON.stringify(kept))).toEqual(kept);
  expect(readView("{")).toEqual(plainView);
  expect(readView('{"only":{"maker":[1]},"group":"x","columns":["on","nothing"]}')).toEqual({
    only: { maker: [] },
    group: "none",
    columns: ["on"],
  });
});
