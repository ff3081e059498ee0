import { expect, test } from "vitest";
import { within, zoomed } from "./zoom";

const whole = { scale: 1, x: 0, y: 0 };

test("the point under the pointer stays where it is", () => {
  const v = zoomed(whole, 2, 300, 100, 400, 200);
  expect(v).toEqual({ scale: 2, x: -300, y: -100 });
  // The picture's point at (300, 100) of the frame is at (300, 100) after it.
  expect([300 * v.scale + v.x, 100 * v.scale + v.y]).toEqual([300, 100]);
});

test("no edge comes into the frame, and it goes no further than the whole picture", () => {
  expect(within({ scale: 2, x: 50, y: -999 }, 400, 200)).toEqual({ scale: 2, x: 0, y: -200 });
  expect(zoomed({ scale: 2, x: -300, y: -100 }, 0.1, 0, 0, 400, 200)).toEqual({ scale: 1, x: 0, y: 0 });
  expect(zoomed(whole, 1000, 0, 0, 400, 200).scale).toBe(8);
});
