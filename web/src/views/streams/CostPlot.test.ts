import { expect, test } from "vitest";
import { daysAt } from "./CostPlot";

test("the handle of the plot lies on its curve", () => {
  const curve = [0.5, 1, 2].map((factor) => ({ factor, days: 40 / factor })) as Parameters<typeof daysAt>[0];
  expect(daysAt(curve, 1)).toBeCloseTo(40);
  expect(daysAt(curve, Math.SQRT2)).toBeCloseTo(40 / Math.SQRT2); // half way as it is drawn
  expect(daysAt(curve, 0.1)).toBeCloseTo(80); // beyond its ends
  expect(daysAt(curve, 9)).toBeCloseTo(20);
  expect(daysAt([], 1)).toBe(0);
  expect(daysAt([{ ...curve[0]!, days: 0 }], 1)).toBeCloseTo(0.01); // what a logarithm can show
});
