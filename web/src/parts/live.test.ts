// @vitest-environment jsdom
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { lagOf, type LiveWord, openLive, type Trouble, unheard } from "./live";

class FakeSocket {
  static all: FakeSocket[] = [];
  onmessage?: (e: { data: unknown }) => void;
  onclose?: () => void;
  closed = false;
  binaryType = "";
  constructor(readonly url: string) {
    FakeSocket.all.push(this);
  }
  close() {
    this.closed = true;
  }
  say(w: LiveWord) {
    this.onmessage?.({ data: JSON.stringify(w) });
  }
}

let hidden = false;
let ends: (() => void)[] = [];
const turn = (now: boolean) => {
  hidden = now;
  document.dispatchEvent(new Event("visibilitychange"));
};

beforeEach(() => {
  FakeSocket.all = [];
  hidden = false;
  vi.useFakeTimers();
  vi.stubGlobal("WebSocket", FakeSocket);
  Object.defineProperty(document, "hidden", { get: () => hidden, configurable: true });
});
afterEach(() => {
  for (const end of ends) end();
  ends = [];
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const open = () => {
  const told = { begun: [] as LiveWord[], data: 0, troubles: [] as (Trouble | null)[] };
  const end = openLive(
    "d1",
    { role: "main" },
    {
      begin: (w) => told.begun.push(w),
      data: () => told.data++,
      trouble: (t) => told.troubles.push(t),
    },
  );
  ends.push(end);
  return { told, end };
};
const last = () => FakeSocket.all.at(-1)!;

test("a connection that breaks is made anew, later and later", () => {
  const { told, end } = open();
  expect(last().url).toContain("/api/devices/d1/live?role=main");
  last().say({ mime: "video/mp4" });
  last().onmessage?.({ data: new ArrayBuffer(3) });
  expect([told.begun.length, told.data]).toEqual([1, 1]);
  last().onclose?.();
  vi.advanceTimersByTime(500);
  expect(FakeSocket.all.length).toBe(2);
  last().onclose?.();
  expect(told.troubles.at(-1)?.text).toBe("The picture stopped.");
  vi.advanceTimersByTime(600);
  expect(FakeSocket.all.length).toBe(2);
  vi.advanceTimersByTime(1000);
  expect(FakeSocket.all.length).toBe(3);
  last().say({ mime: "video/mp4" });
  expect(told.troubles.at(-1)).toBeNull();
  end();
  expect(last().closed).toBe(true);
  last().onclose?.();
  vi.advanceTimersByTime(60_000);
  expect(FakeSocket.all.length).toBe(3);
});

test("what cannot be shown is not asked for again and again; what may come is", () => {
  const { told } = open();
  last().say({ problem: "It is locked.", fix: "Wait." });
  expect(told.troubles).toEqual([{ text: "It is locked.", fix: "Wait." }]);
  last().onclose?.();
  vi.advanceTimersByTime(60_000);
  expect(FakeSocket.all.length).toBe(1);

  open();
  last().say({ problem: "The worker has gone away.", again: true });
  last().onclose?.();
  vi.advanceTimersByTime(500);
  expect(FakeSocket.all.length).toBe(3);
});

test("a tab that sleeps gives its stream back, and has it again when it is looked at", () => {
  const { told } = open();
  turn(true);
  vi.advanceTimersByTime(10_000);
  turn(false);
  vi.advanceTimersByTime(60_000);
  expect(FakeSocket.all.length).toBe(1); // a glance elsewhere costs nothing
  turn(true);
  vi.advanceTimersByTime(20_000);
  expect(last().closed).toBe(true);
  last().say({ mime: "video/mp4" });
  last().onmessage?.({ data: new ArrayBuffer(3) });
  expect(told.data).toBe(0); // what still comes is not kept
  turn(false);
  expect(FakeSocket.all.length).toBe(2);
});

test("the lag is what comes on top of the quickest", () => {
  const seen = { least: Number.POSITIVE_INFINITY };
  const m = (at: number) => ({ at, kbps: 1, fps: 1, keys: [], lost: 0 });
  expect(lagOf(seen, m(1000), 5000)).toBe(0); // the clocks differ by four seconds, or it took them
  expect(lagOf(seen, m(2000), 6300)).toBe(300);
  expect(lagOf(seen, m(3000), 6900)).toBe(0);
  expect(lagOf(seen, m(4000), 8000)).toBe(100);
});

test("why there is nothing to hear", () => {
  expect(unheard({ mime: "audio/pcm" })).toBeUndefined();
  expect(unheard({ mime: "audio/none" })).toBe("The stream has no sound.");
  expect(unheard({ mime: "audio/none", codec: "G.726" })).toBe("Browsers do not play G.726.");
});
