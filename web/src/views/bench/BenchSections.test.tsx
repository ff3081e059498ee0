// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Device } from "@/api/client";
import { BenchSections, deviceWord, signInWord, streamsWord, targetsWord } from "./BenchSections";

beforeEach(() => vi.stubGlobal("localStorage", { getItem: () => null }));
afterEach(cleanup);

const device = (over: object) => ({ streams: [], placements: [], latches: [], next: {}, conflict: false, ...over }) as unknown as Device;

test("each part is told in one word, and what is wrong stands out", () => {
  const ok = { proof: { ok: true } };
  expect(streamsWord(device({}))).toEqual(["none", false]);
  expect(streamsWord(device({ streams: [ok, {}] }))).toEqual(["named", false]);
  expect(streamsWord(device({ streams: [ok, ok] }))).toEqual(["proven", false]);
  expect(streamsWord(device({ streams: [ok, { proof: { ok: false } }] }))).toEqual(["failing", true]);

  const at = (state: string, over = {}) => device({ at: "signed_in", latches: [{ name: "signed_in", state }], ...over });
  expect(signInWord(at("open"))).toEqual(["opens", false]);
  expect(signInWord(at("stuck"))).toEqual(["refused", true]);
  expect(signInWord(at("stuck", { next: { until: "2026-03-14T09:26:53Z" } }))).toEqual(["locked", true]);
  expect(signInWord(at("stuck", { next: { action: "agree" } }))).toEqual(["unsent", true]);
  expect(signInWord(at("next"))).toEqual(["untried", false]);

  expect(targetsWord(device({}))).toEqual(["none", false]);
  expect(targetsWord(device({ placements: [{ confirmed: true }, { confirmed: false }] }))).toEqual(["waiting", false]);
  expect(targetsWord(device({ placements: [{ confirmed: true }] }))).toEqual(["arrived", false]);
  expect(targetsWord(device({ placements: [{ confirmed: false, diagnosis: {} }] }))).toEqual(["failing", true]);

  expect(deviceWord(device({}))).toEqual(["heard", false]);
  expect(deviceWord(device({ latches: [{ name: "reachable", state: "open" }] }))).toEqual(["answers", false]);
  expect(deviceWord(device({ skew_ms: 90_000 }))).toEqual(["clock", true]);
  expect(deviceWord(device({ conflict: true }))).toEqual(["conflict", true]);
});

test("a part is jumped to by its name and by its key", () => {
  const shown = vi.fn();
  Element.prototype.scrollIntoView = shown;
  render(
    <BenchSections
      parts={[
        { id: "urls", name: "URLs", key: "u", word: "proven", body: <p>rtsp</p> },
        { id: "sign-ins", name: "Sign-ins", key: "i", word: "opens", body: <p>fitter</p> },
      ]}
    />,
  );
  fireEvent.click(screen.getByRole("button", { name: "URLs proven" }));
  expect(document.activeElement).toBe(screen.getByRole("group", { name: "URLs" }));
  fireEvent.keyDown(document.body, { key: "i" });
  expect(document.activeElement).toBe(screen.getByRole("group", { name: "Sign-ins" }));
  expect(shown).toHaveBeenCalledTimes(2);
});
