import { expect, test } from "vitest";
import type { ServerFinding } from "@/api/client";
import { bytes, newest, share, verdict } from "./words";

const of = (...states: ServerFinding["state"][]) => states.map((state) => ({ cause: "x", says: "x", state }));

test("what findings come to", () => {
  expect(verdict(of("well", "well"))).toBe("All is well");
  expect(verdict(of("soon", "well"))).toBe("All works; one thing to look at");
  expect(verdict(of("soon", "soon"))).toBe("All works; 2 things to look at");
  expect(verdict(of("ill", "soon"))).toBe("One thing is wrong, 1 more to look at");
  expect(verdict(of("ill", "ill"))).toBe("2 things are wrong");
});

test("bytes as people say them", () => {
  expect(bytes(1_400_000_000)).toBe("1.4 GB");
  expect(bytes(12_300_000)).toBe("12 MB");
  expect(bytes(8192)).toBe("8 kB");
  expect(share(1, 1e9)).toBe(0.5);
  expect(share(1, 0)).toBe(0);
});

test("the newest version", () => {
  expect(newest(["0.9.9", "0.10.0", "0.2.0"])).toBe("0.10.0");
  expect(newest(["1.0.0", "0.99.0"])).toBe("1.0.0");
  expect(newest([])).toBeUndefined();
});
