import { expect, test } from "vitest";
import type { Device } from "@/api/client";
import { cellText, type Field, kbpsOf, measuredText, pixels, planText, signOf, typed, type Wish } from "./plan";

test("what is typed into a cell is read, whatever way it is written", () => {
  const cases: [Field, string, Wish][] = [
    ["codec", "HEVC", { codec: "H.265" }],
    ["codec", " h.264 ", { codec: "H.264" }],
    ["codec", "off", { off: true }],
    ["size", "1280 × 720", { width: 1280, height: 720 }],
    ["size", "640*360", { width: 640, height: 360 }],
    ["fps", "12,5 fps", { fps: 12.5 }],
    ["kbps", "2 Mbit/s", { bitrate_kbps: 2000 }],
    ["kbps", "1.5m", { bitrate_kbps: 1500 }],
    ["kbps", "768", { bitrate_kbps: 768 }],
    ["control", "VBR", { rate_control: "vbr" }],
    ["gop", "30", { gop_frames: 30 }],
    ["gop", "gop 2 s", { gop_seconds: 2 }],
  ];
  for (const [field, text, want] of cases) expect(typed(field, text, {}), `${field} ${text}`).toEqual(want);
});

test("what cannot be is refused with what to type, and leaves the rest alone", () => {
  const cases: [Field, string, string][] = [
    ["codec", "vhs", "H.264"],
    ["size", "big", "1280x720"],
    ["size", "8x8", "1280x720"],
    ["size", "20000x720", "1280x720"],
    ["fps", "0", "240"],
    ["fps", "1000", "240"],
    ["kbps", "fast", "2000"],
    ["kbps", "2000 Mbit/s", "2000"],
    ["control", "abr", "CBR or VBR"],
    ["gop", "2.5", "whole frames"],
    ["gop", "900 s", "up to 600"],
    ["gop", "-3", "30"],
  ];
  for (const [field, text, says] of cases) {
    const before: Wish = { codec: "H.264", fps: 10 };
    const out = typed(field, text, before);
    expect("error" in out && out.error, `${field} ${text}`).toContain(says);
    expect(before).toEqual({ codec: "H.264", fps: 10 });
  }
});

test("an empty cell leaves that setting open, and a stream that is off comes on again", () => {
  const all: Wish = { codec: "H.264", width: 640, height: 360, fps: 10, bitrate_kbps: 500, rate_control: "cbr", gop_frames: 20 };
  for (const field of ["codec", "size", "fps", "kbps", "control", "gop"] as const)
    for (const text of ["", " – ", "keep"]) {
      const out = typed(field, text, all) as Wish;
      expect(cellText(field, out), field).toBe("");
      expect(Object.keys(out).length).toBeLessThan(Object.keys(all).length);
    }
  expect(typed("fps", "10", { off: true })).toEqual({ fps: 10 });
  expect(typed("gop", "3 s", { gop_frames: 30 })).toEqual({ gop_seconds: 3 });
});

test("a wish is written as the server reads it", () => {
  const wishes: [Wish, string][] = [
    [
      { codec: "H.265", profile: "Main 10", width: 1920, height: 1080, fps: 25, bitrate_kbps: 4000, rate_control: "vbr", gop_seconds: 2 },
      "h265,main10,1920x1080,25fps,4000kbps,vbr,gop2s",
    ],
    [
      { codec: "H.264", profile: "Baseline", width: 640, height: 360, fps: 12.5, rate_control: "cbr", gop_frames: 25, audio: "aac" },
      "h264,baseline,640x360,12.5fps,cbr,gop25,audio=aac",
    ],
    [{ codec: "MJPEG", quality: 60 }, "mjpeg,q60"],
    [{ codec: "MPEG-4", profile: "Advanced Simple" }, "mpeg4,advanced simple"],
    [{ off: true }, "off"],
    [{}, "keep"],
  ];
  for (const [w, text] of wishes) expect(planText(w)).toBe(text);
});

const camera = (over: object = {}) =>
  ({
    id: "a",
    plan: { main: { stream: { codec: "H.264", width: 1280, height: 720, fps: 15, bitrate_kbps: 2000 } }, sub: { stream: { off: true } } },
    tunes: { main: { state: "differs", off: [{ field: "bitrate_kbps" }] }, sub: { state: "off" } },
    streams: [
      {
        role: "main",
        claimed: { width: 1920, height: 1080, fps: 25, bitrate_kbps: 6000 },
        proof: {
          video: { codec: "H.264", width: 1280, height: 720, fps: 14.97, bitrate_kbps: 2611.4, rate_control: "vbr", gop_frames: 29.9 },
        },
      },
      { role: "third", claimed: { width: 320, height: 180, fps: 5, bitrate_kbps: 100 } },
    ],
    ...over,
  }) as unknown as Device;

test("how each setting stands to the plan", () => {
  const d = camera();
  expect(signOf(d, "main", "kbps")).toBe("differs");
  expect(signOf(d, "main", "size")).toBe("meets");
  expect(signOf(d, "main", "gop")).toBe("none"); // it is left open
  expect(signOf(d, "sub", "codec")).toBe("off");
  expect(signOf(d, "sub", "fps")).toBe("none");
  expect(signOf(d, "third", "codec")).toBe("none"); // nothing is planned
  expect(signOf(camera({ tunes: { main: { state: "unknown" } } }), "main", "size")).toBe("unknown");
  expect(signOf(camera({ tunes: { main: { state: "differs", off: [{ field: "stream" }] } } }), "main", "codec")).toBe("differs");
});

test("what was measured, in the words of a cell", () => {
  const main = camera().streams[0];
  expect((["codec", "size", "fps", "kbps", "control", "gop"] as const).map((f) => measuredText(f, main))).toEqual([
    "H.264",
    "1280×720",
    "15",
    "2611",
    "VBR",
    "30",
  ]);
  expect(measuredText("fps", camera().streams[1])).toBe(""); // a claim is no measure
  expect(measuredText("fps", undefined)).toBe("");
});

test("what a stream asks of the encoder and of the network", () => {
  const d = camera();
  expect(pixels(d, "main")).toBe(1280 * 720 * 15);
  expect(pixels(d, "sub")).toBe(0);
  expect(pixels(d, "third")).toBe(320 * 180 * 5); // claimed, for want of better
  expect(pixels(d, "main", { width: 640, height: 360, fps: 10 })).toBe(640 * 360 * 10);
  const want = { main: { state: "differs", want: { width: 1280, height: 960, fps: 12 } } };
  expect(pixels(camera({ tunes: want }), "main")).toBe(1280 * 960 * 12); // the plan as the device can have it
  expect(kbpsOf(d, "main")).toBe(2000); // as planned until that is met
  expect(kbpsOf(camera({ tunes: { main: { state: "meets" } } }), "main")).toBeCloseTo(2611.4);
  expect(kbpsOf(d, "sub")).toBe(0);
  expect(kbpsOf(d, "third")).toBe(100);
  expect(kbpsOf(d, "main", { bitrate_kbps: 900 })).toBe(900);
});
