import { expect, test } from "vitest";
import { shareAt, wedge, whole, zoomed } from "./place";

const picture = { width: 1000, height: 500 };
const frame = { width: 500, height: 500 };

test("the whole plan is shown in the middle of its window", () => {
  const look = whole(picture, frame);
  expect(look.k).toBeCloseTo(0.48);
  expect(look.x).toBeCloseTo(10);
  expect(shareAt(look, picture, { x: 250, y: 250 })).toEqual({ x: 0.5, y: 0.5 });
});

test("what lies under the pointer stays there while it is zoomed", () => {
  const look = whole(picture, frame);
  const at = { x: 130, y: 260 };
  const before = shareAt(look, picture, at);
  const after = shareAt(zoomed(look, 3, at), picture, at);
  expect(after.x).toBeCloseTo(before.x);
  expect(after.y).toBeCloseTo(before.y);
  expect(zoomed(look, 1e9, at).k).toBe(8);
});

test("no mark lies beside the picture", () => {
  expect(shareAt({ x: 0, y: 0, k: 1 }, picture, { x: -50, y: 9000 })).toEqual({ x: 0, y: 1 });
});

test("a camera that looks east has its wedge at the right", () => {
  expect(wedge({ direction: 90, view: 60 }, 100)).toBe("M0 0L86.6 -50.0A100 100 0 0 1 86.6 50.0Z");
  expect(wedge({ direction: undefined, view: 60 }, 100)).toBe("");
  expect(wedge({ direction: 0, view: 360 }, 10)).toContain("A10 10 0 1 1");
});
