import { expect, it } from "vitest";
import { measureName, percent, scaled, withGaps } from "./timewords";

it("tells nearly all from all", () => {
  expect(percent(100)).toBe("100 %");
  expect(percent(0)).toBe("0 %");
  expect(percent(71.94)).toBe("71.9 %");
  expect(percent(99.123)).toBe("99.12 %");
  expect(percent(99.99999)).toBe("99.999 %");
});

it("leaves out where nothing was measured", () => {
  const at = (minute: number) => ({ at: new Date(minute * 60_000).toISOString() });
  const plotted = withGaps([0, 15, 30, 45, 180, 195].map(at));
  expect(plotted.map((p) => [p.at / 60, p.point !== null])).toEqual([
    [0, true],
    [15, true],
    [30, true],
    [45, true],
    [60, false],
    [180, true],
    [195, true],
  ]);
  expect(withGaps([])).toEqual([]);
  expect(withGaps([at(1)])).toHaveLength(1);
});

it("names a measure with its stream and unit", () => {
  expect(measureName("rate main")).toBe("Frame rate, main, in fps");
  expect(measureName("key frames sub")).toBe("Seconds between key frames, sub");
  expect(measureName("skew")).toBe("Clock against this machine, in s");
  expect(scaled("skew", 1500)).toBe(1.5);
  expect(scaled("rate main", 25)).toBe(25);
});
