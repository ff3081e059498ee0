// @vitest-environment jsdom
import { act, renderHook } from "@testing-library/react";
import { beforeEach, expect, test } from "vitest";
import type { Drafts } from "./matrix";
import { useDrafts } from "./useDrafts";

beforeEach(() => sessionStorage.clear());

const draft = (fps: number): Drafts => new Map([["a", { main: { fps } }]]);

test("what was typed can be undone and done again, and a new step ends what could be done again", () => {
  const { result } = renderHook(() => useDrafts("site"));
  expect(result.current.canUndo || result.current.canRedo).toBe(false);
  act(() => result.current.set(draft(10)));
  act(() => result.current.set(draft(15)));
  act(() => result.current.undo());
  expect(result.current.drafts).toEqual(draft(10));
  act(() => result.current.redo());
  expect(result.current.drafts).toEqual(draft(15));
  act(() => result.current.undo());
  act(() => result.current.undo());
  act(() => result.current.undo()); // one more than there are
  expect(result.current.drafts.size).toBe(0);
  act(() => result.current.set(draft(20)));
  expect(result.current.canRedo).toBe(false);
  act(() => result.current.redo());
  expect(result.current.drafts).toEqual(draft(20));
});

test("what was typed survives a reload, and is forgotten with the last of it", () => {
  const first = renderHook(() => useDrafts("site"));
  act(() => first.result.current.set(draft(10)));
  first.unmount();
  const again = renderHook(() => useDrafts("site"));
  expect(again.result.current.drafts).toEqual(draft(10));
  expect(renderHook(() => useDrafts("another")).result.current.drafts.size).toBe(0);
  act(() => again.result.current.set(new Map()));
  expect(sessionStorage.length).toBe(0);
});

test("what another program has left in its place is not taken for drafts", () => {
  for (const text of ["{", "null", '"text"', '[["a"]]', '{"a":5}', '[["a",{"main":{"fps":"x"}}]]']) {
    sessionStorage.setItem("streams-site", text);
    const { result, unmount } = renderHook(() => useDrafts("site"));
    expect(result.current.drafts).toBeInstanceOf(Map);
    unmount();
  }
});
