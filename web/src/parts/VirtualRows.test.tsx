// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { createRef } from "react";
import { afterEach, beforeAll, expect, it } from "vitest";
import { VirtualRows } from "./VirtualRows";

// There is no layout here: a row is 40 px high and the box 400.
beforeAll(() => {
  const sized = { configurable: true, get: (): number => 400 };
  Object.defineProperty(HTMLElement.prototype, "offsetWidth", sized);
  Object.defineProperty(HTMLElement.prototype, "offsetHeight", {
    configurable: true,
    get(this: HTMLElement): number {
      return this.tagName === "TR" ? 40 : 400;
    },
  });
});

afterEach(cleanup);

it("draws only the rows in sight, and tells each its place among all", () => {
  const scroller = createRef<HTMLDivElement>();
  const items = Array.from({ length: 2000 }, (_, i) => `row ${i}`);
  render(
    <div ref={scroller} style={{ height: 400, overflow: "auto" }}>
      <table>
        <tbody>
          <VirtualRows
            items={items}
            scroller={scroller}
            height={40}
            id={(s) => s}
            row={(s, _, measured) => (
              <tr {...measured}>
                <td>{s}</td>
              </tr>
            )}
          />
        </tbody>
      </table>
    </div>,
  );
  const drawn = screen.getAllByRole("row");
  expect(drawn.length).toBeGreaterThan(5);
  expect(drawn.length).toBeLessThan(100);
  expect(screen.getByText("row 0").closest("tr")?.getAttribute("aria-rowindex")).toBe("2");
  expect(screen.queryByText("row 1999")).toBeNull();
});
