// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { Multicast } from "./Multicast";

const opens = { grid: [{ service: "device service", state: "opens" }] };
vi.mock("@/parts/useFrame", () => ({
  useFrame: () => ({
    site: { id: "s1" },
    devices: [
      { id: "a", ...opens },
      { id: "b", ...opens },
      { id: "c", grid: [] }, // its device service does not open
      { id: "d", via: { channel: 1 }, ...opens },
    ],
  }),
}));

// The client takes fetch when it is loaded, so it is replaced before that.
const { sent, state } = vi.hoisted(() => {
  const cast = (device: string, role: string, more: object = {}) => ({
    device,
    name: device.toUpperCase(),
    address: "127.0.0.9",
    role,
    known: true,
    group: "239.255.0.1:50000",
    ttl: 4,
    findings: [],
    ...more,
  });
  const clash = { cause: "group_clash", summary: "A and B send to one group.", fix: "Give them groups of their own." };
  const heard = { group: "239.255.0.1:50000", for_ms: 2000, others: [], interface: "eth0" };
  const of = { kind: "H.264 in RTP", kbps: 512, packets: 300, ttl: 3, lost: 0, from: "127.0.0.9:4000" };
  const state = {
    casts: [
      cast("b", "sub", { known: false, group: undefined }),
      cast("a", "main", { findings: [clash], bare: { ...heard, of }, always: true, before: "239.1.1.1:5000" }),
      cast("a", "sub"),
      cast("b", "main", { findings: [clash], bare: heard, always: true }),
      cast("c", "main"),
      cast("d", "main"),
    ],
    running: false,
  };
  const sent: { path: string; body: unknown }[] = [];
  vi.stubGlobal("fetch", async (r: Request) => {
    const path = new URL(r.url).pathname;
    if (r.method === "POST") sent.push({ path, body: await r.clone().json() });
    const run = { id: "r", kind: "multicast", state: "running" };
    const body = r.method === "POST" ? run : path.endsWith("/runs") ? (state.running ? [run] : []) : state.casts;
    return new Response(JSON.stringify(body), { headers: { "Content-Type": "application/json" } });
  });
  return { sent, state };
});

beforeEach(() => {
  sent.length = 0;
  state.running = false;
});
afterEach(cleanup);

async function open() {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter>
        <Multicast />
      </MemoryRouter>
    </QueryClientProvider>,
  );
  return await screen.findByRole("table");
}

const button = (name: RegExp) => screen.getByRole("button", { name }) as HTMLButtonElement;

test("what needs a person comes first, and who cannot be asked is left out", async () => {
  const table = await open();
  const rows = [...table.querySelectorAll("[data-cast]")].map((r) => `${r.getAttribute("data-cast")} ${r.getAttribute("data-role")}`);
  expect(rows).toEqual(["A main", "B main", "A sub", "B sub"]);
  expect(screen.getByText("2 streams with findings")).toBeTruthy();
  expect(table.textContent).toContain("H.264");
  expect(table.textContent).toContain("150/s");
  expect(within(table.querySelector('[data-cast="B"]')! as HTMLElement).getByText("nothing").className).toContain("text-stuck");
  expect(button(/Give 2 streams groups of their own/).disabled).toBe(false);
});

test("exactly the streams that were chosen are started, one of each of two cameras", async () => {
  const table = await open();
  fireEvent.click(within(table).getByRole("checkbox", { name: "Select A, main" }));
  fireEvent.click(within(table).getByRole("checkbox", { name: "Select B, sub" }));
  fireEvent.click(button(/Start sending/));
  await waitFor(() => expect(sent).toHaveLength(1));
  expect(sent[0]).toEqual({
    path: "/api/sites/s1/multicast",
    body: {
      action: "start",
      streams: [
        { device: "a", role: "main" },
        { device: "b", role: "sub" },
      ],
    },
  });
});

test("only what has an earlier setting is put back", async () => {
  const table = await open();
  fireEvent.click(within(table).getByRole("checkbox", { name: "Select all streams" }));
  fireEvent.click(button(/Put back/));
  await waitFor(() => expect(sent).toHaveLength(1));
  expect(sent[0]!.body).toEqual({ action: "undo", streams: [{ device: "a", role: "main" }] });
});

test("nothing is sent while another run is at it", async () => {
  state.running = true;
  await open();
  await waitFor(() => expect(button(/Measure 4 streams/).disabled).toBe(true));
});
