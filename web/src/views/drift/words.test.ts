import { describe, expect, it } from "vitest";
import type { Cause } from "@/api/client";
import { headline, putOffs, repairSays, repairWord, roundsInWords } from "./words";

const cause = (more: Partial<Cause>) =>
  ({ ids: ["d1"], cause: "silent", severity: "urgent", headline: "x", since: "", acceptable: false, drifts: [{}], ...more }) as Cause;

describe("drift in words", () => {
  it("counts what is told, and not what was put off", () => {
    expect(headline([])).toBe("Everything is as it was agreed.");
    expect(headline([cause({}), cause({ severity: "notice" })])).toBe("2 things are not as agreed, 1 of them urgent.");
    expect(headline([cause({ severity: "notice" })])).toBe("1 thing is not as agreed.");
    expect(headline([cause({ put_off: "2030-01-01" })])).toBe("Everything is as it was agreed.");
  });
  it("names the repair for one and for many", () => {
    expect(repairWord(cause({}))).toBeUndefined();
    expect(repairWord(cause({ repair: "slot" }))).toBe("Put it back");
    expect(repairWord(cause({ repair: "slot", drifts: [{}, {}] as Cause["drifts"] }))).toBe("Put them back");
  });
  it("says what each repair does", () => {
    for (const repair of ["address", "settings", "clock", "slot", "open"] as const) expect(repairSays(cause({ repair }))).toMatch(/\.$/);
  });
  it("says how a site is watched", () => {
    expect(roundsInWords({ on: false })).toContain("Nobody looks");
    expect(roundsInWords({ on: true, target_minutes: 1 })).toBe("Every camera is looked at every 15 minutes, every target every 1.");
  });
  it("puts off into the future only", () => {
    const now = new Date(2026, 2, 2, 23, 30);
    for (const p of putOffs(now)) expect(p.until.getTime()).toBeGreaterThan(now.getTime());
  });
});
