// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { Tooltip } from "radix-ui";
import { afterEach, describe, expect, it } from "vitest";
import type { Device, Latch, Stream } from "@/api/client";
import { LatchChain } from "./LatchChain";
import { ago, bitrate, fps, left, stillOf, StreamLine } from "./measures";
import { UrlSegments } from "@/views/bench/UrlSegments";

afterEach(cleanup);

const stream = (proof?: object): Stream =>
  ({
    role: "main",
    url: "rtsp://192.0.2.7/a",
    claimed: {},
    proof,
    segments: [
      { part: "host", text: "192.0.2.7", confirmed: true, source: "the device’s own answer" },
      { part: "path", text: "/a", confirmed: false, source: "guess" },
    ],
  }) as unknown as Stream;

describe("measures as people write them", () => {
  it("rounds to what they are good for", () => {
    expect([bitrate(412.4), bitrate(2049)]).toEqual(["412 kbit/s", "2.0 Mbit/s"]);
    expect([fps(14.97), fps(12.5), fps(5), fps(7.5)]).toEqual(["15 fps", "13 fps", "5 fps", "7.5 fps"]);
    expect([left(400), left(61_000), left(600_000)]).toEqual(["1 s", "61 s", "10 min"]);
    const now = Date.parse("2026-05-04T09:00:00Z");
    expect([ago("2026-05-04T08:59:50Z", now), ago("2026-05-04T08:30:00Z", now), ago("2026-05-04T03:00:00Z", now)]).toEqual([
      "just now",
      "30 min ago",
      "6 h ago",
    ]);
  });
  it("tells a stream that was not played from one without a picture", () => {
    render(
      <>
        <StreamLine stream={stream()} />
        <StreamLine stream={stream({ ok: false })} />
        <StreamLine stream={stream({ ok: true, video: { width: 640, height: 360, fps: 15, bitrate_kbps: 500 } })} />
      </>,
    );
    expect(screen.getByText("not played")).toBeTruthy();
    expect(screen.getByText("no picture")).toBeTruthy();
    expect(screen.getByText(/640×360/).textContent).toContain("500 kbit/s");
  });
  it("shows the first picture that there is", () => {
    expect(stillOf({ streams: [stream({ ok: false }), stream({ still: "7" })] } as unknown as Device)).toBe("/api/stills/7");
    expect(stillOf({ streams: [] } as unknown as Device)).toBeUndefined();
  });
});

describe("the chain", () => {
  it("says every state in words and draws each in a shape of its own", () => {
    const states: Latch["state"][] = ["open", "next", "waiting", "stuck", "waived", "stale", "closed"];
    const { container } = render(
      <Tooltip.Provider>
        <LatchChain
          latches={states.map((state, i) => ({
            name: ["heard", "reachable", "signed_in", "located", "proven", "tuned", "placed"][i]!,
            state,
          }))}
        />
      </Tooltip.Provider>,
    );
    expect(screen.getByRole("img").getAttribute("aria-label")).toBe(
      "Heard open, Reachable next, Signed in waiting, Located stuck, Proven passed over, Tuned out of date, Placed not yet",
    );
    const shapes = [...container.querySelectorAll("g")].map((g) => g.lastElementChild!.outerHTML.replace(/class="[^"]*"/, ""));
    expect(new Set(shapes).size).toBe(states.length);
  });
});

describe("a URL in segments", () => {
  it("marks what is confirmed and what is not", () => {
    render(
      <Tooltip.Provider>
        <UrlSegments stream={stream()} name="Clock" reveal={() => Promise.resolve("")} />
      </Tooltip.Provider>,
    );
    expect(screen.getByText("192.0.2.7").className).not.toContain("border-dashed");
    expect(screen.getByText("/a").className).toContain("border-dashed");
    expect(screen.getByRole("button", { name: "Copy without sign-in" })).toBeTruthy();
  });
});
