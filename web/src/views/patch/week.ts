import type { Target } from "@/api/client";

/** The hours of a week in which a slot is recorded: seven days of 24 hours, Monday first. */
export type Week = boolean[][];

type Schedule = NonNullable<NonNullable<Target["layout"]>["slots"][number]["schedule"]>;
type Span = NonNullable<Schedule["week"]>[number];

export const days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;
export const dayNames = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

export const emptyWeek = (): Week => days.map(() => Array<boolean>(24).fill(false));

/** Reads spans. One that ends before it begins goes on to the end of its day. */
export function weekOf(spans: Span[] | null | undefined): Week {
  const week = emptyWeek();
  for (const s of spans ?? []) {
    const day = week[days.indexOf(s.day as "mon")];
    const to = s.to > s.from ? s.to : 24;
    for (let h = s.from; day && h < to && h < 24; h++) day[h] = true;
  }
  return week;
}

/** The spans of a week, as few as there can be. */
export function spansOf(week: Week): Span[] {
  const out: Span[] = [];
  week.forEach((hours, d) => {
    for (let h = 0; h < 24; h++) {
      if (!hours[h]) continue;
      const from = h;
      while (h < 24 && hours[h]) h++;
      out.push({ day: days[d]!, from, to: h });
    }
  });
  return out;
}

/** The week with a rectangle of hours set or cleared. */
export function painted(week: Week, a: { day: number; hour: number }, b: { day: number; hour: number }, on: boolean): Week {
  const [d0, d1] = [Math.min(a.day, b.day), Math.max(a.day, b.day)];
  const [h0, h1] = [Math.min(a.hour, b.hour), Math.max(a.hour, b.hour)];
  return week.map((hours, d) => (d < d0 || d > d1 ? hours : hours.map((was, h) => (h < h0 || h > h1 ? was : on))));
}

/** A week in words: days with the same hours together. */
export function weekText(spans: Span[] | null | undefined): string {
  const byHours = new Map<string, number[]>();
  const of = days.map((day) => (spans ?? []).filter((s) => s.day === day));
  of.forEach((list, d) => {
    if (list.length === 0) return;
    const key = list.map((s) => `${s.from}–${s.to}`).join(", ");
    byHours.set(key, [...(byHours.get(key) ?? []), d]);
  });
  const short = (d: number) => dayNames[d]!.slice(0, 3);
  return [...byHours]
    .map(([hours, ds]) => {
      const row = ds.length > 2 && ds.every((d, i) => i === 0 || d === ds[i - 1]! + 1);
      return `${row ? `${short(ds[0]!)} to ${short(ds.at(-1)!)}` : ds.map(short).join(", ")} ${hours}`;
    })
    .join("; ");
}
