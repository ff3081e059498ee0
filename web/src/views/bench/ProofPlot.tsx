import type { Stream } from "@/api/client";
import { bitrate } from "@/parts/measures";

type Video = NonNullable<NonNullable<Stream["proof"]>["video"]>;

const width = 396;
const height = 64;

/** 42 kB, 980 B */
export function bytes(n: number) {
  return n >= 1000 ? `${Math.round(n / 1000)} kB` : `${n} B`;
}

/** How key frames came, in words. */
export function keyFrames(v: Video) {
  if (v.frames > 1 && v.keyframes === v.frames) return "every frame is a key frame";
  if (!v.key_intervals?.length) return v.keyframes === 1 ? "one key frame in all that time" : "no key frame";
  const mean = `${Number((v.gop_seconds || v.key_intervals[0]!).toFixed(1))} s`;
  return {
    constant: `a key frame every ${mean}`,
    varying: `key frames uneven, ${mean} in the mean`,
    long: `key frames up to ${longest(v)} s apart`,
  }[v.key_pattern ?? "constant"];
}

const longest = (v: Video) => Number(Math.max(...(v.key_intervals ?? [0])).toFixed(1));

/** The bitrate second by second, with key frames as ticks and the claim as a line, and what it comes to in a few words. */
export function ProofPlot({ stream }: { stream: Stream }) {
  const v = stream.proof?.video;
  const seconds = v?.per_second_kbps ?? [];
  if (!v) return null;
  const claim = stream.claimed.bitrate_kbps;
  const top = Math.max(...seconds, claim) * 1.1 || 1;
  const step = width / seconds.length;
  const y = (kbps: number) => height - (kbps / top) * height;
  let at = 0;
  const ticks = [0, ...(v.key_intervals ?? []).map((s) => (at += s))].filter((s) => s <= seconds.length);
  const kinds = [
    ["key", v.frame_sizes?.key],
    ["P", v.frame_sizes?.predicted],
    ["B", v.frame_sizes?.bidirectional],
  ] as const;
  const b = v.bitrate;
  return (
    <section className="px-4 pb-3" aria-label="Measured over time">
      {seconds.length > 1 && (
        <svg
          viewBox={`0 0 ${width} ${height + 12}`}
          className="w-full"
          role="img"
          aria-label={`Bitrate of ${seconds.length} seconds: ${seconds.join(", ")} kbit/s`}
        >
          {seconds.map((kbps, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a second is known by its place
            <rect key={i} x={i * step + 1} width={Math.max(1, step - 2)} y={y(kbps)} height={height - y(kbps)} className="fill-open/70" />
          ))}
          {claim > 0 && (
            <>
              <line x1="0" x2={width} y1={y(claim)} y2={y(claim)} className="stroke-ink" strokeDasharray="4 3" />
              <text
                x={width}
                y={Math.max(9, y(claim) - 3)}
                textAnchor="end"
                strokeWidth="3"
                className="fill-ink stroke-sheet text-[10px] [paint-order:stroke]"
              >
                claimed {bitrate(claim)}
              </text>
            </>
          )}
          <line x1="0" x2={width} y1={height} y2={height} className="stroke-soft" />
          {v.keyframes < v.frames &&
            ticks.map((s) => (
              <line key={s} x1={s * step} x2={s * step} y1={height} y2={height + 9} className="stroke-ink" strokeWidth="1.5" />
            ))}
        </svg>
      )}
      <dl className="mt-1 grid grid-cols-[auto_1fr] gap-x-3 text-small">
        <dt className="text-soft">Rate</dt>
        <dd className="mono">
          {b && `${bitrate(b.least)} to ${bitrate(b.most)}, mean ${bitrate(b.mean)}`}
          {v.rate_control && `, ${v.rate_control === "cbr" ? "constant (CBR)" : "variable (VBR)"}`}
        </dd>
        <dt className="text-soft">Frames</dt>
        <dd className="mono">
          {keyFrames(v)}
          {kinds.map(([name, k]) => k && `; ${name} ${bytes(k.mean_bytes)}`)}
        </dd>
        <dt className="text-soft">On the way</dt>
        <dd className="mono">
          {v.lost} lost{!!v.reordered && `, ${v.reordered} out of order`}
          {!!v.duplicates && `, ${v.duplicates} twice`}, jitter {Number((v.jitter_ms ?? 0).toFixed(1))} ms
        </dd>
        {stream.proof?.audio && (
          <>
            <dt className="text-soft">Audio</dt>
            <dd className="mono">
              {stream.proof.audio.codec}, {stream.proof.audio.sample_rate / 1000} kHz
              {stream.proof.audio.channels === 2 && ", stereo"}
              {stream.proof.audio.level_dbfs !== undefined && `, ${Math.round(stream.proof.audio.level_dbfs)} dBFS`}
            </dd>
          </>
        )}
        {stream.proof?.metadata && (
          <>
            <dt className="text-soft">Metadata</dt>
            <dd className="mono">{stream.proof.metadata.kinds?.join(", ") || `${stream.proof.metadata.documents} documents`}</dd>
          </>
        )}
      </dl>
    </section>
  );
}

/** What should be acted on at a stream that plays. */
export function StreamFindings({ stream }: { stream: Stream }) {
  return (stream.proof?.findings ?? []).map((f) => (
    <section key={f.cause} aria-label="Finding" data-finding={f.cause} className="mx-4 mb-3 border-l-4 border-stuck bg-paper px-3 py-2">
      <p className="font-medium">{f.summary}</p>
      <p className="mt-0.5 text-soft">{f.fix}</p>
      {f.seen && <p className="mt-0.5 text-small text-soft">Seen: {f.seen}</p>}
    </section>
  ));
}
