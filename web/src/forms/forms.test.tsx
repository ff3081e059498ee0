// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { SignInSheet } from "./SignInSheet";
import { SiteSheet } from "./SiteSheet";
import { TuneForm } from "@/views/bench/TuneForm";
import type { Device, Stream } from "@/api/client";

// The client takes fetch when it is loaded, so it is replaced before that.
const { sent } = vi.hoisted(() => {
  const sent: { url: string; body: unknown }[] = [];
  vi.stubGlobal("fetch", async (r: Request) => {
    if (r.method === "GET") return new Response("[]", { headers: { "Content-Type": "application/json" } });
    sent.push({ url: new URL(r.url).pathname, body: await r.clone().json() });
    const problem = { status: 422, cause: "bad_range", detail: "The range cannot be read.", fix: "Type it like 192.0.2.0/24." };
    return new Response(JSON.stringify(problem), { status: 422, headers: { "Content-Type": "application/problem+json" } });
  });
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      unobserve() {}
      disconnect() {}
    },
  );
  return { sent };
});

afterEach(() => {
  cleanup();
  sent.length = 0;
});

const show = (form: ReactNode) => render(<QueryClientProvider client={new QueryClient()}>{form}</QueryClientProvider>);

describe("a form", () => {
  it("says what is missing beside the field, and sends nothing", async () => {
    show(<SignInSheet open onOpenChange={() => {}} />);
    fireEvent.click(screen.getByRole("button", { name: "Add to keyring" }));
    await screen.findByText("Type the user name that the devices know.");
    expect(screen.getByLabelText("User name").getAttribute("aria-invalid")).toBe("true");
    expect(sent).toEqual([]);
  });

  it("keeps what was typed when the server turns it down, and says why", async () => {
    show(<SiteSheet open onOpenChange={() => {}} onDone={() => {}} />);
    fireEvent.change(screen.getByLabelText("Name"), { target: { value: "Engine Works" } });
    fireEvent.change(screen.getByLabelText("Authorised ranges"), { target: { value: "192.0.2.0/33" } });
    fireEvent.click(screen.getByRole("button", { name: "Make the site" }));
    await screen.findByText("The range cannot be read.", { exact: false });
    expect(sent).toEqual([
      { url: "/api/sites", body: { name: "Engine Works", customer: "", ranges: ["192.0.2.0/33"], confirm_large: false, link_mbps: 0 } },
    ]);
    await waitFor(() => expect((screen.getByLabelText("Authorised ranges") as HTMLInputElement).value).toBe("192.0.2.0/33"));
  });
});

describe("the settings of a stream", () => {
  const device = { id: "d1", tuning: undefined } as unknown as Device;
  const stream = {
    role: "sub",
    claimed: { codec: "H.264", width: 640, height: 360, fps: 10, bitrate_kbps: 500, gop_frames: 10 },
  } as unknown as Stream;

  it("sends what was typed and leaves the rest", async () => {
    show(<TuneForm site="s1" device={device} stream={stream} />);
    fireEvent.click(screen.getByRole("button", { name: "Set and measure" }));
    await screen.findByText("Say what shall change; the rest stays.");
    fireEvent.change(screen.getByLabelText("Size"), { target: { value: "320 × 180" } });
    fireEvent.change(screen.getByLabelText("fps"), { target: { value: "5" } });
    fireEvent.click(screen.getByRole("button", { name: "Set and measure" }));
    await waitFor(() => expect(sent).toEqual([{ url: "/api/sites/s1/tune", body: { devices: ["d1"], plan: { sub: "320x180,5fps" } } }]));
  });

  it("tells what was rounded and refused, and takes it back", async () => {
    const tuning = {
      plan: {},
      before: {},
      changes: [{ stream: "sub", field: "fps", from: "25", to: "12", asked: "15" }],
      refused: [{ stream: "sub", field: "codec", asked: "H.265", why: "it offers H.264" }],
      side_effects: ["main: fps went from 25 to 10"],
    };
    show(<TuneForm site="s1" device={{ ...device, tuning } as unknown as Device} stream={stream} />);
    const set = screen.getByLabelText("What was set").textContent;
    expect(set).toContain("asked for 15");
    expect(set).toContain("it offers H.264");
    fireEvent.click(screen.getByRole("button", { name: "Put back what was before" }));
    await waitFor(() => expect(sent).toEqual([{ url: "/api/sites/s1/tune", body: { devices: ["d1"], undo: true } }]));
  });
});
