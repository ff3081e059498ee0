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

/** A value of a measure as it is drawn: clocks in seconds. */
export const scaled = (what: string, v: number) => (what === "skew" ? v / 1000 : v);
