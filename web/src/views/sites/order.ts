import type { Site } from "@/api/client";
import { holdsWords } from "@/parts/words";
import { reachedOf } from "./reached";

/** What sites are put in order by: what waits for a person, the newest change, the name, or whose they are. */
export type SitesOrder = "need" | "change" | "name" | "customer";

/** A site that nobody reaches comes before all that are reached: nothing that is known of it is of now. */
const unreached = 1_000_000;

/** Cameras that wait for a person: those that a button helps count more than those that somebody must think about. */
const need = (s: Site) => (reachedOf(s).state === "nobody" ? unreached : 0) + 2 * s.can_go_on + s.stuck;

const owner = (s: Site) => s.customer ?? "";

/** The sites that hold every word of a text, in an order. */
export function inOrder(sites: Site[], order: SitesOrder, text: string): Site[] {
  const holds = holdsWords(text);
  const list = sites.filter((s) => holds(s.name, s.customer, ...s.ranges));
  const byName = (a: Site, b: Site) => a.name.localeCompare(b.name);
  const changed = (s: Site) => s.last_act?.at ?? "";
  switch (order) {
    case "need":
      return list.sort((a, b) => need(b) - need(a) || byName(a, b));
    case "change":
      return list.sort((a, b) => changed(b).localeCompare(changed(a)) || byName(a, b));
    case "name":
      return list.sort(byName);
    case "customer": // those that are nobody's come last
      return list.sort((a, b) => Number(!a.customer) - Number(!b.customer) || owner(a).localeCompare(owner(b)) || byName(a, b));
  }
}
