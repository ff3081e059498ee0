import { describe, expect, it } from "vitest";
import { strength } from "./strength";

describe("the strength of a password", () => {
  it("counts what is hard to guess and not what is long", () => {
    const level = (p: string) => strength(p).level;
    expect(level("")).toBe(0);
    expect(level("Sh0rt!")).toBe(1);
    expect(level("aaaaaaaaaaaaaaaaaaaa")).toBe(1);
    expect(level("1234567890123")).toBe(1);
    expect(level("coal-stage-7")).toBeGreaterThanOrEqual(2);
    expect(level("k3mzq-8rtwx-p2vya-n5hce")).toBe(4);
    expect(strength("short").says).toContain("5 of at least 10");
  });
});
