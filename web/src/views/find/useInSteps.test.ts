import { expect, test } from "vitest";
import { nextStep } from "./useInSteps";

const things = (n: number, v: number) => Array.from({ length: n }, (_, i) => ({ id: String(i), v }));

test("a long list is taken over in pieces and ends as the list itself", () => {
  const list = things(5, 1);
  const one = nextStep([], list, 2);
  expect(one.map((x) => x.id)).toEqual(["0", "1"]);
  const two = nextStep(one, list, 2);
  expect(two.map((x) => x.id)).toEqual(["0", "1", "2", "3"]);
  expect(nextStep(two, list, 2)).toBe(list);
});

test("what changed is shown as it was until its turn, and what went is gone at once", () => {
  const before = things(4, 1);
  const list = before.slice(1).map((x) => ({ ...x, v: 2 }));
  const one = nextStep(before, list, 1);
  expect(one.map((x) => [x.id, x.v])).toEqual([
    ["1", 2],
    ["2", 1],
    ["3", 1],
  ]);
  expect(nextStep(nextStep(one, list, 1), list, 1)).toBe(list);
});
