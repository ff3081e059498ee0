import type { Device, Stream } from "@/api/client";
import type { components } from "@/api/schema";

/** What is wanted of one stream; what is missing stays as it is. */
export type Wish = Partial<components["schemas"]["Stream"]>;

export const roles = ["main", "sub", "third"] as const;
export type Role = (typeof roles)[number];

/** One setting of a stream, which is one column of the matrix. */
export type Field = "codec" | "size" | "fps" | "kbps" | "control" | "gop";

export const fields: readonly { field: Field; label: string; long: string; width: number; unit: string }[] = [
  { field: "codec", label: "Codec", long: "Codec", width: 60, unit: "" },
  { field: "size", label: "Size", long: "Size", width: 84, unit: "" },
  { field: "fps", label: "fps", long: "Frame rate", width: 42, unit: " fps" },
  { field: "kbps", label: "kbit/s", long: "Bitrate", width: 58, unit: " kbit/s" },
  { field: "control", label: "RC", long: "Rate control", width: 40, unit: "" },
  { field: "gop", label: "GOP", long: "Key-frame interval", width: 44, unit: " frames" },
];

/** The names by which the server tells in what a stream differs. */
export const differsAs: Record<Field, string> = {
  codec: "codec",
  size: "size",
  fps: "fps",
  kbps: "bitrate_kbps",
  control: "rate_control",
  gop: "gop_frames",
};

const short: Record<string, string> = { "H.264": "h264", "H.265": "h265", MJPEG: "mjpeg", "MPEG-4": "mpeg4" };

/** A wish as it is written everywhere: h264,1280x720,15fps,2000kbps,cbr,gop30. */
export function planText(w: Wish): string {
  if (w.off) return "off";
  const parts = [
    w.codec && short[w.codec],
    w.profile?.toLowerCase().replace("main 10", "main10"),
    w.width && `${w.width}x${w.height}`,
    w.fps && `${w.fps}fps`,
    w.bitrate_kbps && `${w.bitrate_kbps}kbps`,
    w.rate_control,
    w.gop_frames ? `gop${w.gop_frames}` : w.gop_seconds && `gop${w.gop_seconds}s`,
    w.quality && `q${w.quality}`,
    w.audio && `audio=${w.audio}`,
  ].filter(Boolean);
  return parts.join(",") || "keep";
}

/** A setting of a wish as a cell shows it; "" where it is left open. */
export function cellText(field: Field, w: Wish | undefined): string {
  if (!w) return "";
  if (w.off) return field === "codec" ? "off" : "";
  switch (field) {
    case "codec":
      return w.codec ?? "";
    case "size":
      return w.width ? `${w.width}×${w.height}` : "";
    case "fps":
      return w.fps ? String(w.fps) : "";
    case "kbps":
      return w.bitrate_kbps ? String(w.bitrate_kbps) : "";
    case "control":
      return (w.rate_control ?? "").toUpperCase();
    case "gop":
      return w.gop_frames ? String(w.gop_frames) : w.gop_seconds ? `${w.gop_seconds} s` : "";
  }
}

const codecs: Record<string, string> = {
  h264: "H.264",
  "h.264": "H.264",
  avc: "H.264",
  h265: "H.265",
  "h.265": "H.265",
  hevc: "H.265",
  jpeg: "MJPEG",
  mjpeg: "MJPEG",
  mpeg4: "MPEG-4",
  "mpeg-4": "MPEG-4",
};

/** What is typed into a cell, put into a wish; a text that cannot be read is an error with what to type. Nothing typed leaves it open. */
export function typed(field: Field, text: string, w: Wish): Wish | { error: string } {
  const t = text.trim().toLowerCase();
  const out: Wish = { ...w };
  if (out.off && t !== "off") delete out.off;
  if (t === "off") return { off: true };
  const empty = t === "" || t === "–" || t === "-" || t === "keep";
  switch (field) {
    case "codec":
      if (empty) delete out.codec;
      else if (codecs[t]) out.codec = codecs[t] as Wish["codec"];
      else return { error: "Type H.264, H.265, MJPEG or MPEG-4, or off." };
      return out;
    case "size": {
      if (empty) {
        delete out.width;
        delete out.height;
        return out;
      }
      const m = /^(\d{2,5})\s*[x×*]\s*(\d{2,5})$/.exec(t);
      if (!m || +m[1]! < 16 || +m[2]! < 16 || +m[1]! > 16384 || +m[2]! > 16384) return { error: "Type a size like 1280x720." };
      out.width = +m[1]!;
      out.height = +m[2]!;
      return out;
    }
    case "fps": {
      if (empty) delete out.fps;
      const v = Number(t.replace(/\s*(fps|\/s)$/, "").replace(",", "."));
      if (!empty && !(v > 0 && v <= 240)) return { error: "Type frames a second, up to 240." };
      if (!empty) out.fps = v;
      return out;
    }
    case "kbps": {
      if (empty) delete out.bitrate_kbps;
      const m = /^(\d+(?:[.,]\d+)?)\s*(kbps|kbit\/s|mbps|mbit\/s|k|m)?$/.exec(t);
      const v = m ? Number(m[1]!.replace(",", ".")) * (m[2]?.startsWith("m") ? 1000 : 1) : 0;
      if (!empty && !(v >= 1 && v <= 1_000_000)) return { error: "Type kbit/s as a number, like 2000." };
      if (!empty) out.bitrate_kbps = Math.round(v);
      return out;
    }
    case "control":
      if (empty) delete out.rate_control;
      else if (t === "cbr" || t === "vbr") out.rate_control = t;
      else return { error: "Type CBR or VBR." };
      return out;
    case "gop": {
      delete out.gop_frames;
      delete out.gop_seconds;
      if (empty) return out;
      const m = /^(?:gop)?\s*(\d+(?:[.,]\d+)?)\s*(s|sec|frames)?$/.exec(t);
      const v = m ? Number(m[1]!.replace(",", ".")) : 0;
      if (!m || v <= 0) return { error: "Type frames like 30, or seconds like 2 s." };
      if (m[2] === "s" || m[2] === "sec") {
        if (v > 600) return { error: "Type seconds up to 600." };
        out.gop_seconds = v;
      } else {
        if (!Number.isInteger(v) || v > 10_000) return { error: "Type whole frames, up to 10000, or seconds like 2 s." };
        out.gop_frames = v;
      }
      return out;
    }
  }
}

/** A setting as it was measured, or as the device claims it where it was not played. */
export function measuredText(field: Field, s: Stream | undefined): string {
  const v = s?.proof?.video;
  if (!s) return "";
  if (!v) return "";
  switch (field) {
    case "codec":
      return v.codec;
    case "size":
      return `${v.width}×${v.height}`;
    case "fps":
      return String(Number(v.fps.toFixed(v.fps < 10 ? 1 : 0)));
    case "kbps":
      return String(Math.round(v.bitrate_kbps));
    case "control":
      return (v.rate_control ?? "").toUpperCase();
    case "gop":
      return v.gop_frames ? String(Math.round(v.gop_frames)) : "";
  }
}

/** What is planned for a stream of a device; undefined where nothing is. */
export const planned = (d: Device, role: Role): Wish | undefined => d.plan?.[role]?.stream;

/** How one setting of a stream stands to its plan. */
export type Sign = "meets" | "differs" | "unknown" | "off" | "none";

export function signOf(d: Device, role: Role, field: Field): Sign {
  const wish = planned(d, role);
  const t = d.tunes?.[role];
  if (!wish || !t) return "none";
  if (wish.off) return field === "codec" ? (t.state === "off" ? "off" : "differs") : "none";
  if (cellText(field, wish) === "") return "none";
  if (t.state === "unknown") return "unknown";
  const off = t.off?.some((o) => o.field === differsAs[field] || o.field === "stream");
  return off ? "differs" : "meets";
}

/** Pixels a second of a stream as it is wanted, else as it was measured, else as the device claims. */
export function pixels(d: Device, role: Role, draft?: Wish): number {
  const w = draft ?? planned(d, role);
  if (w?.off) return 0;
  const s = d.streams.find((x) => x.role === role);
  const v = s?.proof?.video;
  const want = d.tunes?.[role]?.want; // the plan as the device can have it
  if (!draft && w && want?.width && want.fps) return want.width * want.height * want.fps;
  const width = w?.width || v?.width || s?.claimed.width || 0;
  const height = w?.height || v?.height || s?.claimed.height || 0;
  return width * height * (w?.fps || v?.fps || s?.claimed.fps || 0);
}

/** The bitrate that a stream is reckoned with: as planned where that is not met yet, else as measured. */
export function kbpsOf(d: Device, role: Role, draft?: Wish): number {
  const s = d.streams.find((x) => x.role === role);
  const measured = s?.proof?.video?.bitrate_kbps ?? s?.claimed.bitrate_kbps ?? 0;
  const w = draft ?? (d.tunes?.[role]?.state === "meets" ? undefined : planned(d, role));
  if (w?.off) return 0;
  return w?.bitrate_kbps || measured;
}
