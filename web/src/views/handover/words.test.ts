import { expect, test } from "vitest";
import type { Handover } from "@/api/client";
import { readyWords } from "./words";

const view = (findings: number, open: number, items: number, progress = 1) =>
  ({
    ready: findings - (findings - open) === 0 && items === 0 && progress > 0,
    findings: Array.from({ length: findings }, (_, i) => ({ things: i < open ? [{}] : [] })),
    checklist: { items: [{ done: true }, ...Array.from({ length: items }, () => ({ done: false }))] },
    progress: Array.from({ length: progress }, () => ({})),
  }) as unknown as Handover;

test("how ready a site is, in one sentence", () => {
  expect(readyWords(view(0, 0, 0, 0))).toBe("There is nothing to hand over yet: sweep the site first.");
  expect(readyWords(view(2, 0, 0))).toBe("Ready: nothing is open.");
  expect(readyWords(view(3, 1, 0))).toBe("Not ready: 1 finding to mend or to waive.");
  expect(readyWords(view(3, 2, 1))).toBe("Not ready: 2 findings to mend or to waive, 1 item of the checklist to do.");
  expect(readyWords(view(0, 0, 2))).toBe("Not ready: 2 items of the checklist to do.");
});
