import type { Cause, Rounds } from "@/api/client";

/** What has drifted, in one sentence. */
export function headline(causes: Cause[]) {
  const told = causes.filter((c) => !c.put_off);
  if (told.length === 0) return "Everything is as it was agreed.";
  const urgent = told.filter((c) => c.severity === "urgent").length;
  const things = told.length === 1 ? "1 thing is" : `${told.length} things are`;
  return `${things} not as agreed${urgent ? `, ${urgent} of them urgent` : ""}.`;
}

const repairs: Record<string, string> = {
  address: "Give the agreed address back",
  settings: "Put the agreed settings back",
  clock: "Set the clock",
  slot: "Put it back",
  open: "Try again",
};

/** What the button says that puts a finding right; undefined where only a person can. */
export const repairWord = (c: Cause) => c.repair && (c.drifts.length > 1 && c.repair === "slot" ? "Put them back" : repairs[c.repair]);

const says: Record<string, string> = {
  address: "Each device gets its agreed address again, and is asked there whether it took it. It is out of reach for some seconds.",
  settings: "The agreed settings are written to each device and read back from it. The run can be undone.",
  clock: "The clock is set from this server, and read back. What it said before is kept.",
  slot: "Each camera is put back into its slot, and its picture there is compared with its own.",
  open: "Nothing is changed. Each device is asked again with the sign-in that opened it before.",
};

/** What putting a finding right does, in words. */
export const repairSays = (c: Cause) => says[c.repair ?? ""] ?? "";

/** How a site is watched, in one line. */
export function roundsInWords(r: Rounds) {
  if (!r.on) return "Nobody looks at this site by itself.";
  return `Every camera is looked at every ${r.camera_minutes || 15} minutes, every target every ${r.target_minutes || 5}.`;
}

/** When something was seen that began between two looks. */
export function between(since: string, after?: string) {
  const at = (t: string) => new Date(t).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });
  return after ? `Between ${at(after)} and ${at(since)}` : `Since ${at(since)}`;
}

/** The times to which a finding can be put off, from now. */
export function putOffs(now: Date) {
  const at = (days: number, hour: number) => {
    const t = new Date(now);
    t.setDate(t.getDate() + days);
    t.setHours(hour, 0, 0, 0);
    return t;
  };
  return [
    { name: "for an hour", until: new Date(now.getTime() + 3_600_000) },
    { name: "until tomorrow, 8:00", until: at(1, 8) },
    { name: "for a week", until: at(7, 8) },
    { name: "for a month", until: at(30, 8) },
  ];
}
