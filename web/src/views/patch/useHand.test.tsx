// @vitest-environment jsdom
import { act, renderHook } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import type { Device } from "@/api/client";
import { useHand } from "./useHand";

const stage = { current: { getBoundingClientRect: () => ({ left: 100, top: 50 }) } as unknown as HTMLElement };
const device = { id: "a" } as Device;
const row = { key: "slot" };

function setUp() {
  const letGo = vi.fn();
  const under = (x: number) => (x > 300 ? row : undefined);
  return { letGo, ...renderHook(() => useHand(stage, under, letGo)) };
}

const pointer = (kind: string, clientX: number, clientY: number) =>
  act(() => {
    window.dispatchEvent(Object.assign(new Event(kind), { clientX, clientY }));
  });

test("what the pointer carries follows it and is let go with it", () => {
  const { result, letGo } = setUp();
  act(() => result.current.setHand({ devices: [device], by: "pointer", x: 0, y: 0 }));
  pointer("pointermove", 150, 70);
  expect(result.current.hand).toMatchObject({ x: 50, y: 20, over: undefined });
  pointer("pointermove", 350, 70);
  expect(result.current.hand).toMatchObject({ x: 250, over: "slot" });
  pointer("pointerup", 360, 71);
  expect(result.current.hand).toBeNull();
  expect(letGo).toHaveBeenCalledTimes(1);
  expect(letGo.mock.calls[0]![0]).toMatchObject({ devices: [device], x: 260, y: 21 });
  expect(letGo.mock.calls[0]![1]).toBe(row);
  pointer("pointerup", 360, 71);
  expect(letGo).toHaveBeenCalledTimes(1);
});

test("Escape puts back what the pointer carries", () => {
  const { result, letGo } = setUp();
  act(() => result.current.setHand({ devices: [device], by: "pointer", x: 0, y: 0 }));
  act(() => {
    window.dispatchEvent(new KeyboardEvent("keydown", { key: "Escape" }));
  });
  expect(result.current.hand).toBeNull();
  pointer("pointerup", 360, 71);
  expect(letGo).not.toHaveBeenCalled();
});

test("what the keys carry stays in the hand while the pointer moves", () => {
  const { result, letGo } = setUp();
  act(() => result.current.setHand({ devices: [device], by: "keys", x: 1, y: 2 }));
  pointer("pointermove", 350, 70);
  pointer("pointerup", 350, 70);
  expect(result.current.hand).toMatchObject({ x: 1, y: 2 });
  act(() => result.current.drop(result.current.hand!, row));
  expect(letGo).toHaveBeenCalledTimes(1);
  expect(result.current.hand).toBeNull();
});
