import { expect, test } from "vitest";
import { holdsWords } from "./words";

test.each([
  ["", true],
  ["  ", true],
  ["corvane", true],
  ["FERRY corv", true],
  ["corvane elsewhere", false],
  ["undefined", false],
])("whether every word of %j is held", (text, held) => {
  expect(holdsWords(text)("Tarn Ferry", undefined, "Corvane")).toBe(held);
});
