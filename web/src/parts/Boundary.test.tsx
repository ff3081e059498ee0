// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { Boundary } from "./Boundary";

afterEach(cleanup);

let broken = true;
function View() {
  if (broken) throw new Error("the view is broken");
  return <p>The view</p>;
}

test("a mistake is said, and the view is offered anew", () => {
  const quiet = vi.spyOn(console, "error").mockImplementation(() => {});
  broken = true;
  const { rerender } = render(
    <Boundary at="/find">
      <View />
    </Boundary>,
  );
  expect(screen.getByRole("alert").textContent).toContain("the view is broken");
  broken = false;
  fireEvent.click(screen.getByText("Try again"));
  expect(screen.getByText("The view")).toBeTruthy();

  broken = true;
  rerender(
    <Boundary at="/find">
      <View />
    </Boundary>,
  );
  expect(screen.getByRole("alert")).toBeTruthy();
  broken = false;
  rerender(
    <Boundary at="/keyring">
      <View />
    </Boundary>,
  );
  expect(screen.getByText("The view")).toBeTruthy();
  quiet.mockRestore();
});
