import { describe, expect, it } from "vitest";
import { netsOf, within } from "./nets";

describe("networks of a site", () => {
  it("are the /24s of its ranges and of what was heard, in order", () => {
    expect(netsOf(["192.0.2.0/24", "10.0.9.7"], ["10.0.2.3", "192.0.2.9", "fe80::1"])).toEqual(["10.0.2", "10.0.9", "192.0.2"]);
    expect(netsOf(["10.0.4.0/22"], [])).toEqual(["10.0.4", "10.0.5", "10.0.6", "10.0.7"]);
    expect(netsOf(["10.1.0.0/16"], [])).toHaveLength(256);
    expect(netsOf(["10.0.0.0/8"], ["10.9.9.9"])).toEqual(["10.9.9"]);
  });
  it("know which addresses a pool holds", () => {
    const pool = within("192.0.2.10-192.0.2.40, 192.0.2.50");
    expect(["192.0.2.9", "192.0.2.10", "192.0.2.40", "192.0.2.41", "192.0.2.50"].map(pool)).toEqual([false, true, true, false, true]);
    expect(within("")("192.0.2.1")).toBe(false);
  });
});
