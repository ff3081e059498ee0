/** A share of a time in percent, with as many digits as it needs to tell it from all of it. */
export function percent(p: number) {
  if (p === 100 || p === 0) return `${p} %`;
  const digits = p > 99.9 ? 3 : p > 99 ? 2 : 1;
  const text = p.toFixed(digits);
  return `${text === (100).toFixed(digits) ? "99.999" : text} %`;
}

const names: Record<string, string> = {
  rate: "Frame rate, fps",
  bitrate: "Bitrate, kbit/s",
  loss: "Packets lost, %",
  "key frames": "Seconds between key frames",
  skew: "Clock against this machine, s",
};

/** What a measure is called, with its stream and its unit. */
export function measureName(what: string) {
  const [, kind, role] = /^(.*?)(?: (main|sub|third))?$/.exec(what) ?? [];
  const [name, unit] = (names[kind ?? ""] ?? what).split(", ");
  return [role ? `${name}, ${role}` : name, unit].filter(Boolean).join(", in ");
}

/** A measure over some time, and what was measured; null where nothing was. */
export type Plotted<P> = { at: number; point: P | null };

/**
 * The points of a plot, with times in seconds, and an empty one wherever nothing was measured for more than three times as long as usual:
 * a line drawn through would tell what nobody has seen.
 */
export function withGaps<P extends { at: string }>(points: P[]): Plotted<P>[] {
  const times = points.map((p) => Date.parse(p.at) / 1000);
  const steps = times.slice(1).map((t, i) => t - times[i]!);
  const usual = [...steps].sort((a, b) => a - b)[Math.floor(steps.length / 2)] ?? 0;
  return points.flatMap((point, i) => {
    const here = { at: times[i]!, point };
    const step = steps[i - 1];
    return step !== undefined && step > 3 * usual ? [{ at: times[i - 1]! + usual, point: null }, here] : [here];
  });
}

/** A value of a measure as it is drawn: clocks in seconds. */
export const scaled = (what: string, v: number) => (what === "skew" ? v / 1000 : v);
