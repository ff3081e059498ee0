// @vitest-environment jsdom
import { act, render } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import { useScroll } from "./useScroll";

let column: ReturnType<typeof useScroll>;

function Column() {
  column = useScroll();
  return <section ref={column.ref} onScroll={column.on} data-testid="column" />;
}

test("a column tells how far it is scrolled, once a frame, and brings a row into sight", () => {
  const frames: FrameRequestCallback[] = [];
  vi.spyOn(window, "requestAnimationFrame").mockImplementation((f) => frames.push(f));
  const { getByTestId } = render(<Column />);
  const el = getByTestId("column");
  Object.defineProperty(el, "clientHeight", { value: 400 });
  el.scrollTop = 120;
  act(() => {
    column.on();
    column.on();
  });
  expect(frames).toHaveLength(1);
  act(() => frames[0]!(0));
  expect([column.top, column.height]).toEqual([120, 400]);

  column.show(300, 40); // in sight already
  expect(el.scrollTop).toBe(120);
  column.show(1000, 40); // below
  expect(el.scrollTop).toBe(1000 + 40 - 400 + 8);
  column.show(20, 40); // above
  expect(el.scrollTop).toBe(12);
  vi.restoreAllMocks();
});
