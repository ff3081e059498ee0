import type { Measure } from "@/parts/live";
import { bitrate } from "@/parts/measures";

const width = 480;
const height = 56;
const seconds = 60;

/** Joins what was measured before with what is new: at most the last minute, each second once. */
export function rolling(before: Measure[], fresh: Measure[]) {
  const last = before.at(-1)?.at ?? Number.NEGATIVE_INFINITY;
  return [...before, ...fresh.filter((m) => m.at > last)].slice(-seconds);
}

/** What came in the last few seconds, in one line. */
export function measuredNow(list: Measure[]) {
  const recent = list.slice(-5);
  if (recent.length === 0) return undefined;
  const mean = (f: (m: Measure) => number) => recent.reduce((sum, m) => sum + f(m), 0) / recent.length;
  const times = list.flatMap((m) => m.keys.map((k) => m.at / 1000 + k));
  const gaps = times.slice(1).map((t, i) => t - times[i]!);
  const every = gaps.length > 0 ? gaps.slice(-5).reduce((a, b) => a + b, 0) / Math.min(5, gaps.length) : undefined;
  return { kbps: mean((m) => m.kbps), fps: mean((m) => m.fps), every, lost: list.reduce((sum, m) => sum + m.lost, 0) };
}

/** The last minute of a stream: bitrate as bars, frames a second as a line, key frames as ticks, seconds with loss marked. */
export function LivePlot({ list, label }: { list: Measure[]; label: string }) {
  const step = width / seconds;
  const top = Math.max(...list.map((m) => m.kbps), 1) * 1.15;
  const most = Math.max(...list.map((m) => m.fps), 1) * 1.15;
  const newest = list.at(-1)?.at ?? 0;
  // The newest second stands at the right edge; a second that is missing leaves its place empty.
  const x = (m: Measure) => width - step - ((newest - m.at) / 1000) * step;
  const shown = list.filter((m) => x(m) > -step);
  const everyFrame = shown.length > 0 && shown.every((m) => m.keys.length === m.fps);
  const now = measuredNow(list);
  return (
    <svg
      viewBox={`0 0 ${width} ${height + 10}`}
      preserveAspectRatio="none"
      className="h-16 w-full"
      role="img"
      aria-label={now ? `${label}: ${bitrate(now.kbps)}, ${now.fps.toFixed(0)} frames a second over ${list.length} seconds` : label}
    >
      {shown.map((m) => (
        <rect
          key={m.at}
          x={x(m) + 0.75}
          width={step - 1.5}
          y={height - (m.kbps / top) * height}
          height={(m.kbps / top) * height}
          className={m.lost > 0 ? "fill-stuck" : "fill-open/55"}
        />
      ))}
      <polyline
        points={shown.map((m) => `${x(m) + step / 2},${height - (m.fps / most) * height}`).join(" ")}
        fill="none"
        strokeWidth="1.5"
        vectorEffect="non-scaling-stroke"
        className="stroke-ink"
      />
      <line x1="0" x2={width} y1={height} y2={height} className="stroke-soft" vectorEffect="non-scaling-stroke" />
      {!everyFrame &&
        shown.flatMap((m) =>
          m.keys.map((k) => (
            <line
              key={m.at + k}
              x1={x(m) + k * step}
              x2={x(m) + k * step}
              y1={height}
              y2={height + 9}
              className="stroke-ink"
              strokeWidth="1.5"
              vectorEffect="non-scaling-stroke"
            />
          )),
        )}
    </svg>
  );
}
