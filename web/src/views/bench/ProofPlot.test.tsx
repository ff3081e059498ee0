// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Stream } from "@/api/client";
import { keyFrames, ProofPlot, StreamFindings } from "./ProofPlot";

afterEach(cleanup);

type Video = NonNullable<NonNullable<Stream["proof"]>["video"]>;
const video = (change: object) => ({ frames: 60, keyframes: 4, gop_seconds: 1, lost: 0, ...change }) as Video;
const stream = (v: object, rest: object = {}) =>
  ({ role: "main", claimed: { bitrate_kbps: 2000 }, proof: { ok: true, video: video(v), ...rest } }) as Stream;

describe("key frames in words", () => {
  it.each([
    [{ key_intervals: [1, 1], key_pattern: "constant" }, "a key frame every 1 s"],
    [{ key_intervals: [3, 5, 16], key_pattern: "long", gop_seconds: 8 }, "key frames up to 16 s apart"],
    [{ frames: 9, keyframes: 9 }, "every frame is a key frame"],
    [{ keyframes: 1 }, "one key frame in all that time"],
  ])("%o", (v, says) => expect(keyFrames(video(v))).toBe(says));
});

describe("the plot of a proof", () => {
  it("draws each second, and says what it came to", () => {
    const { container } = render(
      <ProofPlot
        stream={stream(
          {
            per_second_kbps: [1900, 2100, 2600],
            bitrate: { least: 1900, mean: 2200, p95: 2600, most: 2600 },
            rate_control: "vbr",
            key_intervals: [1, 1],
            key_pattern: "constant",
            frame_sizes: {
              key: { count: 3, mean_bytes: 42_000, most_bytes: 50_000 },
              predicted: { count: 57, mean_bytes: 900, most_bytes: 1000 },
            },
            jitter_ms: 0.42,
          },
          { audio: { codec: "AAC", sample_rate: 16000, channels: 1, packets: 9 } },
        )}
      />,
    );
    expect(container.querySelectorAll("rect")).toHaveLength(3);
    expect(container.textContent).toContain("claimed 2.0 Mbit/s");
    expect(container.textContent).toContain("variable (VBR)");
    expect(container.textContent).toContain("key 42 kB; P 900 B");
    expect(container.textContent).toContain("jitter 0.4 ms");
    expect(container.textContent).toContain("AAC, 16 kHz");
  });

  it("draws no plot of one second", () => {
    const { container } = render(<ProofPlot stream={stream({ per_second_kbps: [1900] })} />);
    expect(container.querySelector("svg")).toBeNull();
    expect(container.textContent).toContain("0 lost");
  });

  it("tells findings with what to do", () => {
    render(
      <StreamFindings stream={stream({}, { findings: [{ cause: "packet_loss", summary: "2 % are lost.", fix: "Look at the cable." }] })} />,
    );
    expect(screen.getByLabelText("Finding").textContent).toContain("Look at the cable.");
  });
});
