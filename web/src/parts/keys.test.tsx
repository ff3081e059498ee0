// @vitest-environment jsdom
import { cleanup, fireEvent, render } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { setSingleKeys, singleKeys, useKeys } from "./keys";

const done = vi.fn();

function Page() {
  useKeys({
    o: () => done("o"),
    "1": () => done("1"),
    Escape: () => done("Escape"),
    ArrowDown: () => done("down"),
    " ": () => done("space"),
  });
  return (
    <>
      <p>here</p>
      <input aria-label="typed into" />
      <button type="button">pressed</button>
      <div role="dialog">
        <p>sheet</p>
      </div>
    </>
  );
}

beforeEach(() => setSingleKeys(true));
afterEach(() => {
  cleanup();
  done.mockReset();
});

test("a key is a command, except while somebody types, has a sheet open, or holds Ctrl", () => {
  const page = render(<Page />);
  fireEvent.keyDown(page.getByText("here"), { key: "O" });
  expect(done).toHaveBeenLastCalledWith("o");
  done.mockReset();
  fireEvent.keyDown(page.getByLabelText("typed into"), { key: "o" });
  fireEvent.keyDown(page.getByText("sheet"), { key: "o" });
  fireEvent.keyDown(page.getByText("here"), { key: "o", ctrlKey: true });
  fireEvent.keyDown(page.getByText("pressed"), { key: " " });
  expect(done).not.toHaveBeenCalled();
});

test("single letters and digits can be switched off; the other keys stay", () => {
  setSingleKeys(false);
  expect(singleKeys()).toBe(false);
  const at = render(<Page />).getByText("here");
  for (const key of ["o", "1"]) fireEvent.keyDown(at, { key });
  expect(done).not.toHaveBeenCalled();
  for (const key of ["Escape", "ArrowDown", " "]) fireEvent.keyDown(at, { key });
  expect(done.mock.calls.flat()).toEqual(["Escape", "down", "space"]);
});
