import { expect, test } from "vitest";
import { emptyWeek, painted, spansOf, weekOf, weekText } from "./week";

test("spans become hours and spans again", () => {
  const spans = [
    { day: "mon", from: 0, to: 6 },
    { day: "mon", from: 20, to: 24 },
    { day: "sun", from: 8, to: 18 },
  ] as const;
  expect(spansOf(weekOf([...spans]))).toEqual(spans);
  expect(spansOf(weekOf([{ day: "tue", from: 22, to: 6 }]))).toEqual([{ day: "tue", from: 22, to: 24 }]);
  expect(weekOf(undefined)).toEqual(emptyWeek());
});

test("a rectangle is painted whichever corner it is begun at, and cleared again", () => {
  const week = painted(emptyWeek(), { day: 4, hour: 17 }, { day: 0, hour: 8 }, true);
  expect(spansOf(week)).toHaveLength(5);
  expect(spansOf(painted(week, { day: 2, hour: 12 }, { day: 2, hour: 12 }, false))).toHaveLength(6);
  expect(spansOf(painted(week, { day: 0, hour: 0 }, { day: 6, hour: 23 }, false))).toEqual([]);
});

test("a week in words", () => {
  expect(weekText(spansOf(painted(emptyWeek(), { day: 0, hour: 8 }, { day: 4, hour: 17 }, true)))).toBe("Mon to Fri 8–18");
  expect(
    weekText([
      { day: "sat", from: 0, to: 24 },
      { day: "sun", from: 0, to: 24 },
    ]),
  ).toBe("Sat, Sun 0–24");
  expect(weekText([])).toBe("");
});
