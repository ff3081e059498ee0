import { expect, test } from "vitest";
import { apply, type Changes } from "./changes";
import type { Device } from "./client";

const device = (id: string, address: string, revision = "1") => ({ id, address, revision }) as Device;
const changes = (version: string, devices: Device[], since?: string, gone: string[] = []): Changes => ({ version, since, devices, gone });
const ids = (l: { devices: Device[] }) => l.devices.map((d) => d.id).join(" ");

test("everything, then what changed", () => {
  const all = apply(undefined, changes("s-3", [device("a", "192.0.2.9"), device("b", "192.0.2.10")]));
  const next = apply(all, changes("s-5", [device("b", "192.0.2.10", "2"), device("c", "192.0.2.100"), device("d", "192.0.2.11")], "s-3"));
  expect(ids(next)).toBe("a b d c");
  expect(next.devices[0]).toBe(all.devices[0]);
  expect(next.devices[1]?.revision).toBe("2");
  expect(ids(apply(next, changes("s-6", [], "s-5", ["a", "unknown"])))).toBe("b d c");
});

test("what is as it was keeps its object", () => {
  const all = apply(undefined, changes("s-3", [device("a", "192.0.2.9")]));
  expect(apply(all, changes("s-4", [device("a", "192.0.2.9")])).devices[0]).toBe(all.devices[0]);
  expect(apply(all, changes("s-4", [device("a", "192.0.2.9", "2")])).devices[0]).not.toBe(all.devices[0]);
});

test("an answer that comes late changes nothing, and one since longer ago fits", () => {
  const now = apply(undefined, changes("s-7", [device("a", "192.0.2.9", "7")]));
  expect(apply(now, changes("s-5", [device("a", "192.0.2.9", "5")]))).toBe(now);
  expect(apply(now, changes("s-8", [device("a", "192.0.2.9", "8")], "s-2")).devices[0]?.revision).toBe("8");
});

test("another server begins anew", () => {
  const now = apply(undefined, changes("s-7", [device("a", "192.0.2.9"), device("b", "192.0.2.10")]));
  expect(ids(apply(now, changes("t-1", [device("b", "192.0.2.10")])))).toBe("b");
});
