import { describe, expect, test } from "vitest";
import type { Device } from "@/api/client";
import { columnsOf, copied, fillDown, keep, kept, pasted, put, readTable, type Drafts } from "./matrix";
import { walk } from "@/parts/grid";
import { cellText, signOf, typed } from "@/parts/plan";

const device = (id: string, plan: object = {}, tunes: object = {}) => ({ id, name: id, streams: [], plan, tunes }) as unknown as Device;
const none: Drafts = new Map();
const columns = columnsOf(["main", "sub"]);

describe("a cell", () => {
  test.each([
    ["size", "1280 x 720", "1280×720"],
    ["fps", "12,5 fps", "12.5"],
    ["kbps", "2 Mbit/s", "2000"],
    ["codec", "hevc", "H.265"],
    ["control", "vbr", "VBR"],
    ["gop", "2 s", "2 s"],
    ["gop", "gop30", "30"],
    ["size", "", ""],
    ["codec", "off", "off"],
  ] as const)("%s %s", (field, text, want) => {
    const w = typed(field, text, { width: 640, height: 360, gop_seconds: 4 });
    expect("error" in w).toBe(false);
    expect(cellText(field, w as object)).toBe(want);
  });
  test.each([
    ["size", "720p"],
    ["size", "0x0"],
    ["fps", "-1"],
    ["fps", "NaN"],
    ["kbps", "0"],
    ["gop", "0"],
    ["gop", "1.5"],
    ["control", "abr"],
    ["codec", "h266"],
  ] as const)("%s %s is an error with what to type", (field, text) => {
    expect(typed(field, text, {})).toHaveProperty("error");
  });
  test("typing something into a stream that was off wants it again", () => {
    expect(typed("fps", "5", { off: true })).toEqual({ fps: 5 });
  });
});

describe("drafts", () => {
  test("begin with the plan, and vanish when they want the same", () => {
    const d = device("a", { main: { stream: { fps: 15, bitrate_kbps: 2000 } } });
    const first = put(none, [d], columns, [{ row: 0, col: 2, text: "10" }]);
    expect(first.drafts.get("a")).toEqual({ main: { fps: 10, bitrate_kbps: 2000 } });
    expect(put(first.drafts, [d], columns, [{ row: 0, col: 2, text: "15" }]).drafts.size).toBe(0);
  });
  test("one cell that cannot be read changes nothing", () => {
    const { drafts, bad } = put(none, [device("a"), device("b")], columns, [
      { row: 0, col: 1, text: "640x360" },
      { row: 1, col: 1, text: "huge" },
    ]);
    expect(drafts.size).toBe(0);
    expect(bad).toEqual([{ row: 1, col: 1, text: "huge", error: "Type a size like 1280x720." }]);
  });
  test("survive a reload, and rubbish is none", () => {
    const { drafts } = put(none, [device("a")], columns, [{ row: 0, col: 1, text: "640x360" }]);
    expect(kept(keep(drafts))).toEqual(drafts);
    expect(kept("{").size).toBe(0);
    expect(kept('{"a":1}').size).toBe(0);
  });
  test("fill down", () => {
    const list = [device("a"), device("b"), device("c")];
    const { drafts } = put(none, list, columns, [{ row: 0, col: 3, text: "900" }]);
    const cells = fillDown(list, columns, drafts, { row: 0, col: 3, toRow: 2, toCol: 3 });
    expect(cells).toEqual([
      { row: 1, col: 3, text: "900" },
      { row: 2, col: 3, text: "900" },
    ]);
  });
});

describe("a table from a spreadsheet", () => {
  test("is read with quotes", () => {
    expect(readTable('1280x720\t15\r\n"640x360"\t"1""2"\r\n').rows).toEqual([
      ["1280x720", "15"],
      ["640x360", '1"2'],
    ]);
  });
  test.each([
    ["a\tb\nc", "Row 2 has 1 cells, the first has 2."],
    ['"a\tb', "A quote is opened and never closed."],
  ])("that is malformed says where", (text, error) => {
    expect(readTable(text)).toEqual({ rows: [], error });
  });
  test("goes where it was pasted", () => {
    const at = { row: 1, col: 1, toRow: 3, toCol: 2 };
    expect(pasted([["x"]], at, 10, 12).cells).toHaveLength(6);
    expect(pasted([["x", "y"]], at, 10, 12).cells).toHaveLength(6);
    expect(pasted([["x"], ["y"]], at, 10, 12).cells).toEqual([
      { row: 1, col: 1, text: "x" },
      { row: 2, col: 1, text: "y" },
    ]);
    expect(pasted([["x", "y"]], { row: 0, col: 11, toRow: 0, toCol: 11 }, 10, 12).error).toContain("1 columns too wide");
    expect(pasted([["x"], ["y"]], { row: 9, col: 0, toRow: 9, toCol: 0 }, 10, 12).error).toContain("1 rows more");
  });
  test("is copied in the same form", () => {
    const d = device("a", { main: { stream: { width: 640, height: 360, fps: 5 } } });
    expect(copied([d], columns, none, { row: 0, col: 1, toRow: 0, toCol: 2 })).toBe("640×360\t5");
  });
});

test("the sign of a cell is of its own field", () => {
  const plan = { main: { stream: { width: 640, height: 360, fps: 5 } }, sub: { stream: { off: true } } };
  const d = device("a", plan, { main: { state: "differs", off: [{ field: "fps" }] }, sub: { state: "off" } });
  expect([signOf(d, "main", "size"), signOf(d, "main", "fps"), signOf(d, "main", "kbps")]).toEqual(["meets", "differs", "none"]);
  expect([signOf(d, "sub", "codec"), signOf(d, "sub", "size")]).toEqual(["off", "none"]);
  expect(signOf(device("b", plan, { main: { state: "unknown" } }), "main", "fps")).toBe("unknown");
});

test("a key leads to a cell, or nowhere", () => {
  const size = { rows: 50, cols: 12, page: 8 };
  const from = (key: string, mod = false) => walk({ key, ctrlKey: mod, metaKey: false }, { toRow: 20, toCol: 3 }, size);
  expect(from("ArrowDown")).toEqual({ row: 21, col: 3 });
  expect(from("ArrowUp", true)).toEqual({ row: 0, col: 3 });
  expect(from("ArrowRight", true)).toEqual({ row: 20, col: 11 });
  expect(from("ArrowLeft")).toEqual({ row: 20, col: 2 });
  expect(from("PageDown")).toEqual({ row: 28, col: 3 });
  expect(from("PageUp", true)).toEqual({ row: 12, col: 3 });
  expect(from("Home")).toEqual({ row: 20, col: 0 });
  expect(from("End", true)).toEqual({ row: 49, col: 11 });
  expect(from("x")).toBeUndefined();
});
