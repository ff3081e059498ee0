// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { Sure } from "./Sure";

afterEach(cleanup);

test("nothing is done before it was asked for", () => {
  const done = vi.fn();
  render(
    <Sure ask="Forget it?" more="Its evidence goes with it." yes="Forget it with its evidence" onYes={done}>
      <button type="button">Forget</button>
    </Sure>,
  );
  fireEvent.click(screen.getByText("Forget"));
  expect(screen.getByRole("alertdialog").textContent).toContain("Its evidence goes with it.");
  expect(document.activeElement?.textContent).toBe("Keep");
  fireEvent.click(screen.getByText("Keep"));
  expect(done).not.toHaveBeenCalled();
  expect(screen.queryByRole("alertdialog")).toBeNull();
  fireEvent.click(screen.getByText("Forget"));
  fireEvent.click(screen.getByText("Forget it with its evidence"));
  expect(done).toHaveBeenCalledOnce();
});
