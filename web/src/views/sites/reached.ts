import type { Site } from "@/api/client";
import { ago } from "@/parts/measures";

/** How a site is reached: by a worker of its own from elsewhere, by the server's, or by nobody. */
export type Reached = { state: "far" | "own" | "nobody"; text: string };

/** Says how a site is reached, and what is under way there. */
export function reachedOf(s: Site): Reached {
  const workers = s.work.workers ?? [];
  const here = workers.filter((w) => w.connected);
  const work = [s.work.going && `${s.work.going} under way`, s.work.waiting && `${s.work.waiting} wait`].filter(Boolean).join(", ");
  if (!s.reached || (workers.length > 0 && here.length === 0)) {
    const last = workers
      .map((w) => w.seen_at ?? "")
      .sort()
      .at(-1);
    const names = workers.map((w) => w.name).join(", ");
    const since = last ? ` Last heard ${ago(last)}.` : names ? " It has never been heard." : "";
    return { state: "nobody", text: `Nobody reaches it${names ? `: ${names} is away.` : "."}${since}${work ? ` ${work}.` : ""}` };
  }
  if (here.length === 0) return { state: "own", text: work };
  const by = here.map((w) => `${w.name}${w.delay_ms ? `, ${Math.round(w.delay_ms)} ms` : ""}`).join("; ");
  return { state: "far", text: [by, work].filter(Boolean).join(" · ") };
}
