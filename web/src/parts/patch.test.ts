import { expect, test } from "vitest";
import type { Device, Fitting, Target } from "@/api/client";
import { cordsOf, cordText, dropOn, plugOn, rowAt, rowsOf, rowText } from "./patch";

const camera = (id: string, ...placements: Partial<Device["placements"][number]>[]) =>
  ({
    id,
    name: id,
    placements: placements.map((p) => ({ confirmed: false, state: "waiting", gives: [], name: "", kind: "bridge", target: "t", ...p })),
  }) as unknown as Device;

const target = (id: string, kind: string, slots?: object[], wanted: string[] = []) =>
  ({ id, name: id, kind, wanted, layout: slots && { slots } }) as unknown as Target;

test("each slot holds what stands in it, and what is only wanted stands behind", () => {
  const devices = [camera("a", { token: "2", slot: "two", state: "confirmed" }), camera("b", { wanted: "3" }), camera("c", {})];
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
  expect(cordText({ ...p, diagnosis: { cause: "x", summary: "No picture.", fix: "" } })).toBe("No picture.");
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

const fits = (...judged: [device: string, target: string, verdict: string][]) =>
  new Map(judged.map(([d, t, verdict]) => [`${d} ${t}`, { verdict, reasons: [{ field: "fps", has: "25", wants: "10" }] } as Fitting]));

test("what becomes of a plug that is let go", () => {
  const box = target("box", "bridge", [
    { token: "1", label: "one", is: "free" },
    { token: "2", label: "two", is: "used" },
    { token: "3", label: "three", is: "locked", why: "It wants a licence." },
  ]);
  const list = target("list", "feed");
  const [a, b, c] = [camera("a"), camera("b"), camera("c", { target: "box", token: "2", slot: "two", confirmed: true })];
  const rows = rowsOf([box, list], [a, b, c]);
  const row = (key: string) => rows.find((r) => r.key === key)!;
  const all = fits(
    ["a", "box", "fits"],
    ["b", "box", "after_tuning"],
    ["c", "box", "fits"],
    ["a", "list", "unknown"],
    ["b", "list", "fits"],
  );

  expect(dropOn({ devices: [a] }, row("box 1"), false, all)).toEqual({
    does: "place",
    placements: [{ device: "a", target: "box", slot: "1", replaces: undefined }],
    tune: false,
    name: "box",
  });
  // In place of the one that stands there.
  expect(dropOn({ devices: [b] }, row("box 2"), false, all)).toMatchObject({
    does: "place",
    placements: [{ device: "b", slot: "2", replaces: "c" }],
    tune: true,
  });
  // Several fill the free slots from there on; a list takes them one behind the other.
  expect(dropOn({ devices: [a, b] }, row("box 1"), false, all)).toEqual({
    does: "fill",
    target: "box",
    devices: ["a", "b"],
    start: "1",
    tune: true,
  });
  expect(dropOn({ devices: [a, b] }, row("list next"), false, all)).toMatchObject({
    does: "place",
    placements: [
      { device: "a", target: "list", slot: undefined },
      { device: "b", target: "list" },
    ],
  });
  // What was pulled out of a slot goes into another of the same target, back, or off it.
  const from = row("box 2");
  expect(dropOn({ devices: [c], from }, row("box 1"), false, all)).toEqual({
    does: "move",
    device: "c",
    target: "box",
    slot: "1",
    from: "2",
  });
  expect(dropOn({ devices: [c], from }, from, false, all)).toEqual({ does: "nothing" });
  expect(dropOn({ devices: [c], from }, undefined, true, all)).toMatchObject({ does: "take off", device: "c", slot: "2" });
  expect(dropOn({ devices: [c], from }, undefined, false, all)).toEqual({ does: "nothing" });
  expect(dropOn({ devices: [c], from }, row("box"), true, all)).toEqual({ does: "nothing" });
  expect(dropOn({ devices: [a] }, undefined, true, all)).toEqual({ does: "nothing" });
  expect(dropOn({ devices: [] }, row("box 1"), true, all)).toEqual({ does: "nothing" });
  // What cannot be is refused in words.
  expect(dropOn({ devices: [a] }, row("box 3"), false, all)).toEqual({
    does: "refuse",
    cannot: false,
    problem: "three is not free.",
    why: "It wants a licence.",
  });
  expect(dropOn({ devices: [a] }, row("box 1"), false, fits(["a", "box", "cannot"]))).toEqual({
    does: "refuse",
    cannot: true,
    problem: "box cannot take it.",
    why: "frame rate is 25, it wants 10",
  });
});

test("a row says in words what it is to what is carried", () => {
  const box = target("box", "bridge", [{ token: "1", label: "one", is: "free" }]);
  const a = camera("a");
  const rows = rowsOf([box], [a]);
  expect(rowText(rows[0]!, [a], new Map())).toBe("box, its head");
  expect(rowText(rows[1]!, [a], fits(["a", "box", "after_tuning"]))).toBe("box, one: fits after tuning");
  expect(rowText(rows[1]!, [a], new Map())).toBe("box, one: not proven yet");
});
