// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Device } from "@/api/client";
import { WalkTest } from "./WalkTest";

vi.mock("@/parts/useFrame", () => ({ useFrame: () => ({ site: { id: "s1", name: "Ferry" } }) }));
vi.mock("@/parts/LivePicture", () => ({ LivePicture: (p: { children: React.ReactNode }) => p.children }));

// The client takes fetch when it is loaded, so it is replaced before that.
const { sent, state } = vi.hoisted(() => {
  const sent: unknown[] = [];
  const state = { fails: false };
  vi.stubGlobal("fetch", async (r: Request) => {
    sent.push(await r.clone().json());
    const problem = JSON.stringify({ title: "Service Unavailable", status: 503, detail: "The database does not answer." });
    return state.fails
      ? new Response(problem, { status: 503, headers: { "Content-Type": "application/problem+json" } })
      : new Response(null, { status: 204 });
  });
  return { sent, state };
});

beforeEach(() => {
  sent.length = 0;
  state.fails = false;
  sessionStorage.clear();
});
afterEach(cleanup);

const camera = (id: string, walked?: string) =>
  ({
    id,
    name: `Camera ${id}`,
    address: "127.0.0.9",
    streams: [{ role: "main", proof: { ok: true } }],
    walked: walked && { at: walked, by: "keeper" },
  }) as unknown as Device;

function walk(cameras: Device[], onEnd = () => {}) {
  return render(
    <QueryClientProvider client={new QueryClient()}>
      <WalkTest cameras={cameras} onLarge={() => {}} onEnd={onEnd} />
    </QueryClientProvider>,
  );
}

const status = () => screen.getByRole("status").textContent;
const earlier = "2026-11-20T10:00:00Z";

test("a digit says that the walker was seen, at once and for the record, and again takes it back", async () => {
  walk([camera("a"), camera("b", earlier)]);
  expect(status()).toBe("0 of 2 seen"); // what was seen in an earlier test counts in none
  fireEvent.keyDown(document.body, { key: "2" });
  expect(status()).toBe("1 of 2 seen");
  fireEvent.click(screen.getByRole("button", { name: "1: the walker was seen by Camera a" }));
  expect(status()).toBe("2 of 2 seen");
  fireEvent.keyDown(document.body, { key: "2" });
  expect(status()).toBe("1 of 2 seen");
  await waitFor(() =>
    expect(sent).toEqual([
      { device: "b", unsaid: false },
      { device: "a", unsaid: false },
      { device: "b", unsaid: true },
    ]),
  );
  fireEvent.keyDown(document.body, { key: "7" }); // there is none
  expect(sent).toHaveLength(3);
});

test("what cannot be kept is not shown as seen", async () => {
  state.fails = true;
  walk([camera("a")]);
  fireEvent.keyDown(document.body, { key: "1" });
  await waitFor(() => expect(sent).toHaveLength(1));
  await waitFor(() => expect(status()).toBe("0 of 1 seen"));
});

test("a reload goes on with the same test, and its end begins another", () => {
  const onEnd = vi.fn();
  walk([camera("a", earlier), camera("b")], onEnd);
  cleanup();
  const later = [camera("a", "2026-11-26T10:00:00Z"), camera("b")];
  walk(later, onEnd);
  expect(status()).toBe("1 of 2 seen");
  fireEvent.keyDown(document.body, { key: "Escape" });
  expect(onEnd).toHaveBeenCalledTimes(1);
  cleanup();
  walk(later);
  expect(status()).toBe("0 of 2 seen");
});
