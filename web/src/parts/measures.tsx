import type { Device, Stream } from "@/api/client";

/** 2.0 Mbit/s, 412 kbit/s */
export function bitrate(kbps: number) {
  return kbps >= 1000 ? `${(kbps / 1000).toFixed(1)} Mbit/s` : `${Math.round(kbps)} kbit/s`;
}

/** 25 fps, 12.5 fps */
export function fps(v: number) {
  return `${Number(v.toFixed(v < 10 ? 1 : 0))} fps`;
}

export const stillUrl = (id: string) => `/api/stills/${id}`;

/** The picture of a camera: the newest still of its main stream, else of its sub stream. */
export function stillOf(d: Device) {
  for (const s of d.streams) if (s.proof?.still) return stillUrl(s.proof.still);
  const other = d.snapshot?.still ?? d.mjpeg?.still; // there may be a picture before a stream is proven
  return other ? stillUrl(other) : undefined;
}

/** One stream, measured, in one line. */
export function StreamLine({ stream }: { stream?: Stream }) {
  const v = stream?.proof?.video;
  if (!stream) return <span className="text-soft">–</span>;
  if (!stream.proof) return <span className="text-soft">not played</span>;
  if (!stream.proof.ok || !v) return <span className="text-stuck">no picture</span>;
  return (
    <span className="mono whitespace-nowrap">
      {v.width}×{v.height} <span className="inline-block w-14 text-right">{fps(v.fps)}</span>{" "}
      <span className="inline-block w-20 text-right">{bitrate(v.bitrate_kbps)}</span>
    </span>
  );
}

/** A moment as people say it. */
export function ago(iso: string, now = Date.now()) {
  const s = Math.max(0, (now - Date.parse(iso)) / 1000);
  if (s < 60) return "just now";
  if (s < 3600) return `${Math.floor(s / 60)} min ago`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ago`;
  return new Date(iso).toLocaleDateString();
}

/** A length of time left: 40 s, 3 min. */
/** A time of today as a time, any other with its date. */
export function when(iso: string, now = new Date()) {
  const at = new Date(iso);
  const time = at.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
  if (at.toDateString() === now.toDateString()) return time;
  return `${at.toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric" })}, ${time}`;
}

export function left(ms: number) {
  const s = Math.ceil(ms / 1000);
  return s < 90 ? `${s} s` : `${Math.round(s / 60)} min`;
}

/** How far a clock is off, device minus this machine, in words. */
export function skew(ms: number) {
  const s = Math.round(Math.abs(ms) / 1000);
  const text = s < 120 ? `${s} s` : s < 7200 ? `${Math.round(s / 60)} min` : `${Math.round(s / 3600)} h`;
  return `${text} ${ms > 0 ? "ahead" : "behind"}`;
}

const ways: Record<string, string> = {
  tcp: "TCP",
  udp: "UDP datagrams",
  multicast: "multicast",
  "http tunnel": "HTTP (RTSP within it)",
  http: "HTTP, as motion JPEG",
  "http pictures": "HTTP, picture by picture",
  "mpeg-ts": "MPEG-TS by UDP",
  "mpeg-ts over rtp": "MPEG-TS by RTP",
  "mpeg-ts over http": "MPEG-TS by HTTP",
};

/** How a stream comes, in the trade's words. */
export const wayWords = (transport = "") => ways[transport] ?? transport;
