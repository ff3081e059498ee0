import { expect, test } from "vitest";
import type { Site } from "@/api/client";
import { reachedOf } from "./reached";

const site = (reached: boolean, work: object) => ({ name: "Viaduct", reached, work }) as unknown as Site;
const worker = { name: "Viaduct cabinet", version: "0.1.0", delay_ms: 81.4, connected: true };

test("how a site is reached, and what is under way there", () => {
  expect(reachedOf(site(true, {}))).toEqual({ state: "own", text: "" });
  expect(reachedOf(site(true, { going: 3, waiting: 12 }))).toEqual({ state: "own", text: "3 under way, 12 wait" });
  expect(reachedOf(site(true, { workers: [worker], going: 1 }))).toEqual({ state: "far", text: "Viaduct cabinet, 81 ms · 1 under way" });
});

test("a site that nobody reaches says so first", () => {
  expect(reachedOf(site(false, {}))).toEqual({ state: "nobody", text: "Nobody reaches it." });
  const never = { ...worker, connected: false };
  expect(reachedOf(site(true, { workers: [never], waiting: 2 })).text).toBe(
    "Nobody reaches it: Viaduct cabinet is away. It has never been heard. 2 wait.",
  );
  const away = { ...never, seen_at: new Date(Date.now() - 3 * 3600e3).toISOString() };
  expect(reachedOf(site(true, { workers: [away] })).text).toMatch(/^Nobody reaches it: Viaduct cabinet is away. Last heard .+\.$/);
});
