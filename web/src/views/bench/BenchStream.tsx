import { useState } from "react";
import type { Device, Stream } from "@/api/client";
import { ago, bitrate, fps, stillUrl, wayWords } from "@/parts/measures";
import { cellText, type Field, planned, type Role, signOf } from "@/parts/plan";
import { LivePicture } from "@/parts/LivePicture";
import { Still } from "@/parts/Still";
import { Choice } from "@/parts/Choice";

export function Picture({
  device: d,
  stream,
  role,
  setRole,
}: {
  device: Device;
  stream?: Stream;
  role: string;
  setRole: (t: string) => void;
}) {
  const [live, setLive] = useState(false);
  const proof = stream?.proof;
  const v = proof?.video;
  const other = !proof?.still && (d.snapshot?.still ?? d.mjpeg?.still); // there may be a picture before there is a stream
  const still = proof?.still ?? (other || undefined);
  return (
    <section aria-label="Picture" className="px-4">
      <div className="relative">
        {live ? (
          <LivePicture key={role} device={d.id} role={role} name={`${d.name}, ${role} stream`} className="aspect-video w-full" />
        ) : (
          <Still
            src={still ? stillUrl(still) : undefined}
            name={other ? `${d.name}, snapshot` : `${d.name}, ${role} stream`}
            className={`w-full ${still ? "aspect-video" : "h-20"}`}
          />
        )}
        {proof?.ok && (
          <button
            type="button"
            aria-pressed={live}
            onClick={() => setLive(!live)}
            className="absolute top-2 left-2 flex min-h-6 items-center gap-1.5 rounded-sm bg-black/65 px-2 py-0.5 text-small
              text-white hover:bg-black/80"
          >
            {live ? "Show the still" : "Play live"}
          </button>
        )}
        {d.streams.length > 1 && (
          <Choice
            label="Stream shown"
            look="picture"
            value={role}
            onChange={setRole}
            options={d.streams.map((s) => [s.role, s.role] as const)}
            className="absolute top-2 right-2 overflow-hidden rounded-sm bg-black/65 text-small text-white"
          />
        )}
      </div>
      <p className="flex h-8 items-center justify-between gap-3 text-small whitespace-nowrap">
        {v ? (
          <span className="mono">
            {v.codec} · {v.width}×{v.height} · {fps(v.fps)} · {bitrate(v.bitrate_kbps)}
          </span>
        ) : (
          <span className="text-soft">{other ? "Its snapshot; no picture of a stream yet" : "No picture yet"}</span>
        )}
        {proof?.ok && <span className="text-soft">{ago(proof.at)}</span>}
      </p>
    </section>
  );
}

/** What the device claims beside what was measured. A difference is marked. */
export function Compare({ device: d, stream }: { device: Device; stream: Stream }) {
  const v = stream.proof?.video;
  if (!v) return null;
  const c = stream.claimed;
  const told = c.codec !== ""; // a stream that was found by trying claims nothing
  const near = (a: number, b: number, by: number) => !a || Math.abs(a - b) <= by * a;
  const role = stream.role as Role;
  const wish = planned(d, role);
  const rows: [string, string, string, boolean, Field?][] = [
    ["Codec", told ? c.codec : "–", v.codec, !told || c.codec === v.codec, "codec"],
    [
      "Size",
      told ? `${c.width}×${c.height}` : "–",
      `${v.width}×${v.height}`,
      !told || (c.width === v.width && c.height === v.height),
      "size",
    ],
    ["Frame rate", told ? fps(c.fps) : "–", fps(v.fps), near(c.fps, v.fps, 0.1), "fps"],
    ["Bitrate", told ? bitrate(c.bitrate_kbps) : "–", bitrate(v.bitrate_kbps), near(c.bitrate_kbps, v.bitrate_kbps, 0.3), "kbps"],
    [
      "Key-frame interval",
      c.gop_frames && v.keyframes < v.frames ? `${c.gop_frames} frames` : "–",
      v.gop_frames ? `${v.gop_frames} frames` : "–",
      v.keyframes === v.frames || near(c.gop_frames, v.gop_frames ?? 0, 0.1),
      "gop",
    ],
    ["Profile", "–", [v.profile, v.level, v.tier && v.tier !== "Main" && `${v.tier} tier`].filter(Boolean).join(", ") || "–", true],
  ];
  return (
    <section className="border-t px-4 py-3" aria-label="Claimed and measured">
      <table className="w-full text-small">
        <thead>
          <tr className="text-left text-soft">
            <th className="pb-1 font-normal">{stream.role} stream</th>
            <th className="pb-1 pl-3 text-right font-normal">the device claims</th>
            {wish && (
              <th className="pb-1 pl-3 text-right font-normal" title={`The plan is ${d.plan?.[role]?.whose}`}>
                planned
              </th>
            )}
            <th className="pb-1 pl-3 text-right font-normal">measured</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, claimed, measured, same, field]) => (
            <tr key={name}>
              <td className="py-0.5">{name}</td>
              <td className="mono py-0.5 pl-3 text-right whitespace-nowrap text-soft">{claimed}</td>
              {wish && (
                <td className="mono py-0.5 pl-3 text-right whitespace-nowrap">
                  {field && cellText(field, wish)}
                  {field && signOf(d, role, field) === "differs" && <span className="font-semibold text-stuck"> ≠</span>}
                </td>
              )}
              <td className={`mono py-0.5 pl-3 text-right ${same ? "" : "font-semibold text-stuck"}`}>
                {same ? "" : "≠ "}
                {measured}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {wish && <p className="mt-1.5 text-small text-soft">The plan is {d.plan?.[role]?.whose}.</p>}
      <p className="mt-1.5 text-small text-soft">
        {"Over "}
        {wayWords(stream.proof?.transport)}
        {stream.proof?.tls &&
          ` in TLS${stream.proof.tls.expired ? ` (its certificate expired on ${stream.proof.tls.until.slice(0, 10)})` : ""}`}
        , signed in by {stream.proof?.auth}, first key frame after {Math.round(stream.proof?.first_keyframe_ms ?? 0)} ms, {v.lost} of{" "}
        {v.lost + v.packets} packets lost
      </p>
    </section>
  );
}
