import { expect, test } from "vitest";
import type { Site } from "@/api/client";
import { inOrder } from "./order";

const site = (name: string, can_go_on: number, stuck: number, at?: string, reached = true) =>
  ({ name, can_go_on, stuck, reached, work: {}, ranges: ["192.0.2.0/24"], last_act: at && { at } }) as unknown as Site;
const sites = [site("Works", 0, 3, "2026-11-29T10:00:00Z"), site("Viaduct", 4, 0), site("Ferry", 0, 0, "2026-11-29T12:00:00Z")];
const names = (order: "need" | "change" | "name", text = "") => inOrder(sites, order, text).map((s) => s.name);

test("sites in order of what waits, of the last change, of the name", () => {
  expect(names("need")).toEqual(["Viaduct", "Works", "Ferry"]);
  expect(names("change")).toEqual(["Ferry", "Works", "Viaduct"]);
  expect(names("name")).toEqual(["Ferry", "Viaduct", "Works"]);
});

test("searched by words of name and range", () => {
  expect(names("name", "via 192.0")).toEqual(["Viaduct"]);
  expect(names("name", "nothing")).toEqual([]);
});

test("a site that nobody reaches comes first among those that wait", () => {
  const away = site("Coal", 0, 0, undefined, false);
  expect(inOrder([...sites, away], "need", "").map((s) => s.name)).toEqual(["Coal", "Viaduct", "Works", "Ferry"]);
});
