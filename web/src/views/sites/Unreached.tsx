import type { Site } from "@/api/client";
import { reachedOf } from "./reached";

/** Says which sites nobody reaches, where there are any: what stands there is as it was. */
export function Unreached({ sites }: { sites: Site[] }) {
  const list = sites.filter((s) => s.work && reachedOf(s).state === "nobody");
  if (list.length === 0 || sites.length < 2) return null;
  const few = list
    .slice(0, 3)
    .map((s) => s.name)
    .join(", ");
  const more = list.length > 3 ? ` and ${list.length - 3} more` : "";
  return (
    <p role="status" className="mb-3 border-l-2 border-stuck pl-3 text-stuck">
      {list.length === 1 ? "One site is" : `${list.length} of ${sites.length} sites are`} reached by nobody: {few}
      {more}. What waits there begins when a worker is back.
    </p>
  );
}
