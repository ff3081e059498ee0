import { expect, test } from "vitest";
import type { Device, Fitting, Target } from "@/api/client";
import { cordsOf, cordText, plugOn, rowAt, rowsOf, stateOf } from "./patch";

const camera = (id: string, ...placements: Partial<Device["placements"][number]>[]) =>
  ({
    id,
    name: id,
    placements: placements.map((p) => ({ confirmed: false, gives: [], name: "", kind: "bridge", target: "t", ...p })),
  }) as unknown as Device;

const target = (id: string, kind: string, slots?: object[], wanted: string[] = []) =>
  ({ id, name: id, kind, wanted, layout: slots && { slots } }) as unknown as Target;

test("each slot holds what stands in it, and what is only wanted stands behind", () => {
  const devices = [camera("a", { token: "2", slot: "two", confirmed: true }), camera("b", { wanted: "3" }), camera("c", {})];
  const rows = rowsOf(
    [
      target(
        "t",
        "bridge",
        [
          { token: "1", is: "free" },
          { token: "2", is: "used" },
          { token: "3", is: "free" },
        ],
        ["a", "b", "c"],
      ),
    ],
    devices,
  );
  expect(rows.map((r) => `${r.kind} ${r.slot?.token ?? ""} ${r.device?.id ?? ""}`)).toEqual([
    "head  ",
    "slot 1 ",
    "slot 2 a",
    "slot 3 b",
    "slot  c",
  ]);
  expect(rows.every((r, i) => i === 0 || r.y === rows[i - 1]!.y + rows[i - 1]!.h)).toBe(true);
  expect(cordsOf(rows).map((c) => `${c.device.id} ${c.state}`)).toEqual(["a confirmed", "b waiting", "c waiting"]);
});

test("a list has its cameras in its own order, and room for one more", () => {
  const rows = rowsOf([target("t", "feed", undefined, ["b", "a"])], [camera("a", { slot: "the list" }), camera("b", { slot: "the list" })]);
  expect(rows.slice(1).map((r) => r.device?.id ?? r.slot?.label)).toEqual(["b", "a", "add here"]);
  expect(rowsOf([target("t", "bridge")], [])[1]!.kind).toBe("word");
});

test("a cord says how it stands", () => {
  const p = camera("a", { slot: "1" }).placements[0]!;
  expect(stateOf({ ...p, diagnosis: { cause: "x", summary: "No picture.", fix: "" } })).toBe("broken");
  expect(stateOf({ ...p, moved: true, confirmed: true })).toBe("stale");
  expect(cordText({ ...p, confirmed: true, report: "showing", match: "right camera" })).toContain("its picture: right camera");
  expect(cordText({ ...p, moved: true, old: "sign-in" })).toBe("It still has the old sign-in.");
  expect(cordText({ ...p, slot: undefined })).toContain("not placed yet");
});

test("a plug is judged by the camera that fits least, and by the slot", () => {
  const t = target("t", "bridge", [
    { token: "1", is: "free" },
    { token: "2", is: "locked" },
  ]);
  const [a, b] = [camera("a"), camera("b")];
  const rows = rowsOf([t], [a, b]);
  const judged = (d: string, verdict: string) => [`${d} t`, { verdict } as Fitting] as const;
  expect(plugOn(rows[1]!, [a, b], new Map([judged("a", "fits"), judged("b", "after_tuning")]))).toBe("after_tuning");
  expect(plugOn(rows[1]!, [a], new Map([judged("a", "cannot")]))).toBe("cannot");
  expect(plugOn(rows[1]!, [a], new Map())).toBe("unknown");
  expect(plugOn(rows[2]!, [a], new Map([judged("a", "fits")]))).toBe("taken");
  expect(plugOn(rows[0]!, [a], new Map())).toBe(null);
});

test("the row under a height", () => {
  const rows = [
    { y: 0, h: 10 },
    { y: 10, h: 10 },
    { y: 34, h: 10 },
  ];
  expect([0, 9, 10, 25, 34, 99].map((y) => rowAt(rows, y))).toEqual([0, 0, 1, 2, 2, 3]);
});
