/** The /24 networks of ranges, as "192.0.2"; ranges wider than a /16 give none of their own, only what was heard in them counts. */
export function netsOf(ranges: string[], heard: string[]): string[] {
  const out = new Set<string>();
  for (const r of ranges) {
    const m = /^(\d+)\.(\d+)\.(\d+)\.\d+(?:\/(\d+))?$/.exec(r);
    if (!m) continue;
    const bits = m[4] === undefined ? 32 : Number(m[4]);
    if (bits < 16) continue;
    const count = bits >= 24 ? 1 : 2 ** (24 - bits);
    for (let i = 0; i < count; i++) out.add(`${m[1]}.${m[2]}.${Number(m[3]) + i}`);
  }
  for (const a of heard) {
    const net = /^(\d+\.\d+\.\d+)\.\d+$/.exec(a)?.[1];
    if (net) out.add(net);
  }
  return [...out].sort((a, b) => value(a) - value(b));
}

const value = (a: string) => a.split(".").reduce((n, p) => n * 256 + Number(p), 0);

/** A test for addresses in a list like "192.0.2.10-192.0.2.40, 192.0.2.7". */
export function within(list: string): (address: string) => boolean {
  const spans = list
    .split(/[,;\s]+/)
    .filter(Boolean)
    .map((s) => {
      const [low, high = low] = s.split("-");
      return [value(low!), value(high!)] as const;
    });
  return (address) => {
    const v = value(address);
    return spans.some(([low, high]) => v >= low && v <= high);
  };
}
