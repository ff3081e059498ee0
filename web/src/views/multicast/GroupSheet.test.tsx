// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { CastView } from "@/api/client";
import { GroupSheet, wrongIn } from "./GroupSheet";

type Sent = { pool: string; port: number; ttl: number; always?: boolean; send?: boolean; streams: object[] };

// The client takes fetch when it is loaded, so it is replaced before that.
const { sent } = vi.hoisted(() => {
  const sent: Sent[] = [];
  vi.stubGlobal("fetch", async (r: Request) => {
    const body: Sent = await r.clone().json();
    sent.push(body);
    if (body.pool === "nonsense") {
      const problem = {
        title: "Unprocessable Entity",
        status: 422,
        detail: '"nonsense" is no range of groups.',
        fix: "Type it like 239.255.0.0/16.",
      };
      return new Response(JSON.stringify(problem), { status: 422, headers: { "Content-Type": "application/problem+json" } });
    }
    const line = { name: "Clock", old: "239.1.1.1:5000, TTL 1" };
    const lines = [
      { ...line, device: "a", role: "main", new: `239.255.0.1:${body.port}, TTL ${body.ttl}` },
      { ...line, device: "b", role: "sub", new: "239.1.1.1:5000", keep: true },
    ];
    return new Response(JSON.stringify({ lines }), { headers: { "Content-Type": "application/json" } });
  });
  return { sent };
});

beforeEach(() => {
  sent.length = 0;
  // What jsdom lacks: nothing has a size in it that could change.
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      unobserve() {}
      disconnect() {}
    },
  );
});
afterEach(cleanup);

const streams = [
  { device: "a", role: "main" },
  { device: "b", role: "sub" },
] as CastView[];

async function open(onClose = () => {}) {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <GroupSheet site="s1" streams={streams} onClose={onClose} />
    </QueryClientProvider>,
  );
  await screen.findByText(/239\.255\.0\.1:50000, TTL 4/);
}

const set = () => screen.getByRole("button", { name: /^Set/ }) as HTMLButtonElement;
const type = (label: string, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

test("what would be set is shown first, and only that is set", async () => {
  const onClose = vi.fn();
  await open(onClose);
  expect(sent[0]).toEqual({ streams, pool: "239.255.0.0/16", port: 50000, ttl: 4 });
  expect(screen.getByText("stays")).toBeTruthy();
  expect(set().textContent).toBe("Set 1 group and measure");
  type("Port", "50010");
  expect(set().disabled).toBe(true); // what is shown is not what was typed
  await screen.findByText(/239\.255\.0\.1:50010/);
  await waitFor(() => expect(set().disabled).toBe(false));
  fireEvent.click(screen.getByRole("checkbox", { name: "Send with nobody asking" }));
  await waitFor(() => expect(sent.at(-1)?.always).toBe(false));
  await waitFor(() => expect(set().disabled).toBe(false));
  expect(sent.some((s) => s.send)).toBe(false);
  fireEvent.click(set());
  await waitFor(() => expect(onClose).toHaveBeenCalled());
  expect(sent.at(-1)).toEqual({ streams, pool: "239.255.0.0/16", port: 50010, ttl: 4, always: false, send: true });
});

test("what cannot be is refused where it is typed, and nothing is asked", async () => {
  await open();
  const asked = sent.length;
  type("Port", "50001");
  expect(screen.getByRole("alert").textContent).toContain("even port");
  type("Port", "abc");
  expect(set().disabled).toBe(true);
  type("Port", "50000");
  type("TTL", "0");
  expect(screen.getByRole("alert").textContent).toContain("TTL from 1 to 255");
  expect(sent).toHaveLength(asked);
});

test("a pool that is none is told of in the server's words", async () => {
  await open();
  type("Pool of groups", "nonsense");
  await screen.findByText(/is no range of groups/);
  expect(set().disabled).toBe(true);
});

test("ports and TTLs", () => {
  for (const [port, ttl, says] of [
    ["1024", "1", ""],
    ["65534", "255", ""],
    ["65535", "1", "even"],
    ["1022", "1", "even"],
    ["5e4", "1", "even"],
    ["", "1", "even"],
    ["5000", "256", "TTL"],
    ["5000", "-1", "TTL"],
  ] as const)
    if (says) expect(wrongIn(port, ttl), `${port} ${ttl}`).toContain(says);
    else expect(wrongIn(port, ttl)).toBe("");
});
