// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { MemoryRouter, Route, Routes } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { saveText } from "@/parts/save";
import { Exchange } from "./Exchange";

vi.mock("@/parts/useFrame", () => ({ useFrame: () => ({ site: { id: "s1" } }) }));
vi.mock("@/parts/save", () => ({ saveText: vi.fn() }));

// The client takes fetch when it is loaded, so it is replaced before that.
const { reading } = vi.hoisted(() => {
  const turns = [
    { at_ms: 0, note: "connected to 127.0.0.9:554" },
    { at_ms: 1.25, took_ms: 3.5, asked: "OPTIONS rtsp://127.0.0.9/one", answer: "200 OK", sent: "OPTIONS …", got: "RTSP/1.0 200 OK" },
    {
      at_ms: 140,
      took_ms: 220,
      asked: "DESCRIBE rtsp://127.0.0.9/one",
      answer: "404 Not Found",
      mark: "the device knows no such path",
      sent: "DESCRIBE …\nAccept: application/sdp",
      got: "RTSP/1.0 404 Not Found\nServer: Tarn",
    },
    {
      at_ms: 400,
      took_ms: 12,
      asked: "DESCRIBE rtsp://127.0.0.9/two",
      answer: "200 OK",
      sent: "DESCRIBE …",
      got: "v=0",
      sdp: "v=0\r\ns=tarn\r\n",
    },
    { at_ms: 500, asked: "PLAY", sent: "PLAY …" },
  ];
  const reading: Record<string, unknown> = {
    of: "d1",
    name: "Coal stage",
    at: "2026-11-26T08:09:10.5Z",
    summary: "The camera knows no such path.",
    finding: { cause: "path", summary: "", fix: "Ask it for its own paths.", seen: "404 Not Found" },
    mattered: 2,
    turns,
    note: "SUPPORT NOTE\none page",
  };
  const asked: string[] = [];
  vi.stubGlobal("fetch", async (r: Request) => {
    asked.push(new URL(r.url).pathname);
    const gone = r.url.includes("gone");
    const problem = { title: "Not Found", status: 404, detail: "That record is no longer there." };
    return new Response(JSON.stringify(gone ? problem : reading), {
      status: gone ? 404 : 200,
      headers: { "Content-Type": gone ? "application/problem+json" : "application/json" },
    });
  });
  return { reading, asked };
});

beforeEach(() => {
  Element.prototype.scrollIntoView = vi.fn();
  vi.mocked(saveText).mockClear();
});
afterEach(cleanup);

function open(at = "device/r1") {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter initialEntries={[`/x/${at}`]}>
        <Routes>
          <Route path="/x/:of/:record" element={<Exchange />} />
        </Routes>
      </MemoryRouter>
    </QueryClientProvider>,
  );
  return screen.findByRole("list", { name: "Turns" });
}

const chosen = (list: HTMLElement) => list.querySelector('[aria-current="true"]')?.getAttribute("data-turn");

test("the turn that mattered is in hand at once, with what it says", async () => {
  const list = await open();
  expect(list.querySelectorAll("[data-turn]")).toHaveLength(5);
  expect(chosen(list)).toBe("2");
  expect(list.querySelector("[data-mattered]")?.getAttribute("data-turn")).toBe("2");
  expect(document.querySelector("[data-mark]")?.textContent).toBe("The device knows no such path.");
  expect(screen.getByRole("region", { name: "Answer after 220.0 ms" }).textContent).toContain("Server: Tarn");
  expect(screen.getByText(/Ask it for its own paths/).textContent).toContain("Seen: 404 Not Found");
  expect(screen.getByRole("link", { name: /Save/ }).getAttribute("download")).toBe("Coal stage 2026-11-26T080910.txt");
});

test("the arrow keys walk through the turns, and stop at both ends", async () => {
  const list = await open();
  for (const [key, to] of [
    ["ArrowDown", "3"],
    ["ArrowDown", "4"],
    ["ArrowDown", "4"],
    ["ArrowUp", "3"],
  ]) {
    fireEvent.keyDown(document.body, { key });
    expect(chosen(list)).toBe(to);
  }
  fireEvent.click(list.querySelector('[data-turn="4"]')!);
  expect(screen.getByRole("region", { name: "Answer" }).textContent).toContain("Nothing came.");
});

test("a search keeps the turns that hold it, marks it, and says when none does", async () => {
  const list = await open();
  const field = screen.getByLabelText(/Search what was said/);
  fireEvent.change(field, { target: { value: "accept" } });
  expect([...list.querySelectorAll("[data-turn]")].map((t) => t.getAttribute("data-turn"))).toEqual(["2"]);
  expect([...document.querySelectorAll("mark")].map((m) => m.textContent)).toEqual(["Accept"]);
  fireEvent.change(field, { target: { value: "/two" } });
  expect(chosen(list)).toBe("3"); // the one in hand does not hold it
  fireEvent.change(field, { target: { value: "nowhere" } });
  expect(within(list).getByText(/Nothing that was said holds/)).toBeTruthy();
});

test("the SDP and the support note are saved as files", async () => {
  const list = await open();
  fireEvent.click(list.querySelector('[data-turn="3"]')!);
  fireEvent.click(screen.getByRole("button", { name: "Save the SDP as a file" }));
  expect(saveText).toHaveBeenLastCalledWith("Coal stage 2026-11-26T080910.sdp", "v=0\r\ns=tarn\r\n", "application/sdp");
  fireEvent.click(screen.getByRole("button", { name: /Support note/ }));
  fireEvent.click(await screen.findByRole("button", { name: /Save it as a file/ }));
  expect(saveText).toHaveBeenLastCalledWith("Coal stage 2026-11-26T080910 support note.txt", reading.note);
});

test("a record that is gone is told of in words", async () => {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter initialEntries={["/x/device/gone"]}>
        <Routes>
          <Route path="/x/:of/:record" element={<Exchange />} />
        </Routes>
      </MemoryRouter>
    </QueryClientProvider>,
  );
  expect(await screen.findByText(/no longer there/)).toBeTruthy();
});
