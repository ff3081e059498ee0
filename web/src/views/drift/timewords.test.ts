import { expect, it } from "vitest";
import { measureName, percent, scaled } from "./timewords";

it("tells nearly all from all", () => {
  expect(percent(100)).toBe("100 %");
  expect(percent(0)).toBe("0 %");
  expect(percent(71.94)).toBe("71.9 %");
  expect(percent(99.123)).toBe("99.12 %");
  expect(percent(99.99999)).toBe("99.999 %");
});

it("names a measure with its stream and unit", () => {
  expect(measureName("rate main")).toBe("Frame rate, main, in fps");
  expect(measureName("key frames sub")).toBe("Seconds between key frames, sub");
  expect(measureName("skew")).toBe("Clock against this machine, in s");
  expect(scaled("skew", 1500)).toBe(1.5);
  expect(scaled("rate main", 25)).toBe(25);
});
