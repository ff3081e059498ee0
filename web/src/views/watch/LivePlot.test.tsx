// @vitest-environment jsdom
import { render } from "@testing-library/react";
import { expect, test } from "vitest";
import { LivePlot, measuredNow, rolling } from "./LivePlot";

const m = (second: number, over: Partial<{ kbps: number; fps: number; keys: number[]; lost: number }> = {}) => ({
  at: second * 1000,
  kbps: 400,
  fps: 10,
  keys: [0.2],
  lost: 0,
  ...over,
});

test("the last minute is kept, each second once", () => {
  const first = rolling(
    [],
    Array.from({ length: 50 }, (_, i) => m(i)),
  );
  // After a break the server tells what it has measured again.
  const then = rolling(
    first,
    Array.from({ length: 40 }, (_, i) => m(i + 30)),
  );
  expect(then.length).toBe(60);
  expect([then[0]!.at, then.at(-1)!.at]).toEqual([10_000, 69_000]);
});

test("what comes now is the mean of the last seconds; losses count over all that is shown", () => {
  expect(measuredNow([])).toBeUndefined();
  const now = measuredNow([m(1, { lost: 3 }), ...[2, 3, 4, 5, 6].map((s) => m(s, { kbps: 100 * s, fps: 12, keys: s % 2 ? [] : [0.5] }))])!;
  expect([now.kbps, now.fps, now.lost]).toEqual([400, 12, 3]);
  expect(now.every).toBeCloseTo((1.3 + 2 + 2) / 3);
});

test("a second that is missing leaves its place empty, one with loss is marked, every key frame is a tick", () => {
  const { container } = render(<LivePlot list={[m(1), m(2, { lost: 1 }), m(5, { keys: [0.1, 0.6] })]} label="main" />);
  const bars = [...container.querySelectorAll("rect")];
  expect(bars.map((b) => b.classList.contains("fill-stuck"))).toEqual([false, true, false]);
  const x = bars.map((b) => Math.round(Number(b.getAttribute("x"))));
  expect(x[2]! - x[1]!).toBe(24); // three seconds of eight units each
  expect(container.querySelectorAll("line").length).toBe(1 + 4);
  expect(container.querySelector("svg")!.getAttribute("aria-label")).toContain("main: 400 kbit/s, 10 frames a second over 3 seconds");
});
