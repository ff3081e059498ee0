// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Device } from "@/api/client";
import { StreamsPreview } from "./StreamsPreview";

// The client takes fetch when it is loaded, so it is replaced before that.
const { sent } = vi.hoisted(() => {
  const sent: { url: string; body: { devices: string[] } }[] = [];
  const change = { stream: "main", field: "fps", from: "25", to: "12", asked: "15" };
  const stream = {
    role: "main",
    has: {},
    want: {},
    changes: [change],
    kept: [{ ...change, field: "size", to: "1280x720", asked: "1920x1080" }],
    refused: [],
  };
  const refusal = { stream: "sub", field: "codec", asked: "H.265", why: "it offers H.264" };
  const target = { target: "Wall", before: [], after: [{ field: "fps", has: "12", wants: "at most 10" }] };
  const rows = [
    {
      device: "a",
      kbps_before: 4000,
      kbps_after: 2000,
      targets: [target],
      preview: { streams: [stream], warnings: ["sub shares its encoder"] },
    },
    { device: "b", kbps_before: 0, kbps_after: 0, targets: [], unknown: "It is not signed in to yet.", cannot: true },
    {
      device: "c",
      kbps_before: 1,
      kbps_after: 1,
      targets: [],
      preview: { streams: [{ ...stream, changes: [], kept: [], refused: [refusal] }], warnings: [] },
    },
    { device: "d", kbps_before: 1, kbps_after: 1, targets: [], preview: { streams: [], warnings: [] } },
  ];
  vi.stubGlobal("fetch", async (r: Request) => {
    sent.push({ url: new URL(r.url).pathname, body: await r.clone().json() });
    const cost = { days: 20, inbound_mbps: 8 };
    const body = r.url.endsWith("preview") ? { rows, changed: 1, before: cost, after: { ...cost, days: 40 } } : { id: "run" };
    return new Response(JSON.stringify(body), { headers: { "Content-Type": "application/json" } });
  });
  return { sent };
});

afterEach(cleanup);

const device = (id: string) => ({ id, name: `Camera ${id}`, web: `http://192.0.2.1/${id}` }) as unknown as Device;

test("what would happen is said camera by camera, and only what can be set is sent", async () => {
  const close = vi.fn();
  const onSent = vi.fn();
  const sending = { devices: ["a", "b", "c", "d"], plans: { a: { main: "15fps" }, b: { main: "15fps" } } };
  const all = ["a", "b", "c", "d"].map(device);
  render(
    <QueryClientProvider client={new QueryClient()}>
      <StreamsPreview site="s" sending={sending} close={close} onSent={onSent} devices={all} />
    </QueryClientProvider>,
  );
  const a = (await screen.findByText("Camera a")).closest("li")!.textContent!;
  expect(a).toContain("asked 15, nearest it offers");
  expect(a).toContain("size asked 1920x1080: it stays 1280x720, the nearest it offers");
  expect(a).toContain("sub shares its encoder");
  expect(a).toContain("Wall will take it no more: fps 12, wants at most 10");
  expect(screen.getAllByText("Camera b")[0]!.closest("li")!.textContent).toContain("not signed in to yet");
  expect(screen.getAllByText("Camera c")[0]!.closest("li")!.textContent).toContain("H.265 will be refused: it offers H.264");
  expect(screen.getAllByText("its own page").map((x) => x.getAttribute("href"))).toEqual(["http://192.0.2.1/b", "http://192.0.2.1/c"]);
  const beside = screen.getByRole("status").textContent;
  expect(beside).toContain("Camera b will be left out");
  expect(beside).toContain("not signed in to yet");
  expect(screen.getByText(/1 camera is set as planned already/)).toBeDefined();
  expect(document.body.textContent).toContain("40.0 days");

  fireEvent.click(screen.getByRole("button", { name: "Set and measure 1 camera" }));
  await waitFor(() => expect(close).toHaveBeenCalled());
  expect(sent.at(-1)).toEqual({ url: "/api/sites/s/tune", body: { devices: ["a"], plans: { a: { main: "15fps" } } } });
  expect(onSent).toHaveBeenCalledWith(["a"]);
});
