import type { ServerFinding } from "@/api/client";

/** What the findings come to, in a line. */
export function verdict(findings: ServerFinding[]) {
  const count = (state: ServerFinding["state"]) => findings.filter((f) => f.state === state).length;
  const ill = count("ill");
  const soon = count("soon");
  if (ill === 0 && soon === 0) return "All is well";
  const things = (n: number) => (n === 1 ? "One thing" : `${n} things`);
  if (ill === 0) return `All works; ${things(soon).toLowerCase()} to look at`;
  return `${things(ill)} ${ill === 1 ? "is" : "are"} wrong${soon > 0 ? `, ${soon} more to look at` : ""}`;
}

/** 1.4 GB, 12 MB */
export function bytes(n: number) {
  for (const [unit, name] of [
    [1e12, "TB"],
    [1e9, "GB"],
    [1e6, "MB"],
  ] as const)
    if (n >= unit) return `${(n / unit).toFixed(n / unit < 10 ? 1 : 0)} ${name}`;
  return `${Math.round(n / 1000)} kB`;
}

/** How much of the whole a part is, in percent; what is there at all is seen. */
export function share(part: number, whole: number) {
  return whole > 0 ? Math.min(100, Math.max(0.5, (100 * part) / whole)) : 0;
}

/** The last of versions such as 0.10.1, by their numbers; undefined of none. */
export function newest(versions: string[]): string | undefined {
  const numbers = (version: string) => version.split(".").map(Number);
  return versions.toSorted((a, b) => {
    const [x, y] = [numbers(a), numbers(b)];
    for (let i = 0; i < 3; i++) if (x[i] !== y[i]) return (y[i] ?? 0) - (x[i] ?? 0);
    return 0;
  })[0];
}
