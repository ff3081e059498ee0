import type { Baseline, DeviceChange } from "@/api/client";

/** What differs between two states, and how many devices are the same in both. */
export type View = { changes: DeviceChange[]; same: number };

const devices = (n: number) => (n === 1 ? "1 device" : `${n} devices`);

/** What has come of a comparison, in one sentence. */
export function headline({ changes, same }: View) {
  if (changes.length === 0) return same === 1 ? "The device is as it was agreed." : `All ${same} devices are as they were agreed.`;
  const count = (is: DeviceChange["is"]) => changes.filter((c) => c.is === is).length;
  const parts = [
    count("changed") > 0 && `${devices(count("changed"))} changed`,
    count("gone") > 0 && `${count("gone")} not there any more`,
    count("new") > 0 && `${count("new")} new`,
    same > 0 && `${same} as agreed`,
  ].filter(Boolean);
  return `${parts.join(", ")}.`;
}

/** The comparison as text, for a mail. */
export function asText(view: View, since: Baseline, other?: Baseline) {
  const lines = [`From ${since.name} (${since.at}) to ${other ? `${other.name} (${other.at})` : "now"}: ${headline(view)}`];
  for (const c of view.changes) {
    const what = { changed: "", gone: ": not there any more", new: ": new since then" }[c.is];
    lines.push("", c.title + what);
    for (const f of c.fields) lines.push(`  ${f.words}: ${f.was ?? "not known then"} → ${f.is ?? "not known any more"}`);
  }
  return lines.join("\n");
}
