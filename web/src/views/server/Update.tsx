import type { PairedWorker } from "@/api/client";
import { usePrograms, useUpdateWorker } from "@/api/paired";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { Sure } from "@/parts/Sure";
import { newest } from "./words";

/** What a paired worker was told to become and how that goes, and the way to tell it. */
export function Update({ worker: w }: { worker: PairedWorker }) {
  const update = useUpdateWorker();
  const offered = newest((usePrograms().data ?? []).map((p) => p.version));
  const told = w.update;
  const version = offered !== undefined && newest([offered, w.version]) === offered && offered !== w.version ? offered : undefined;
  const underWay = told?.state === "told" || told?.state === "taken";
  return (
    <>
      {told && (
        <span
          data-update={told.state}
          className={`block ${told.state === "failed" ? "text-stuck" : told.state === "done" ? "text-open" : ""}`}
        >
          {says(told)}
        </span>
      )}
      {version && !(underWay && told?.version === version) && !(told?.state === "done" && told.version === version) && (
        <Sure
          ask={`Update ${w.name} to ${version}?`}
          more={`It takes the program over its line and starts it, and does nothing else for some seconds.
            If the new one does not come to work, the one of now goes on.`}
          yes="Update it"
          keep="Not now"
          onYes={() => update.mutate({ worker: w.id, version })}
        >
          <Button className="mt-1 h-7">Update to {version}</Button>
        </Sure>
      )}
    </>
  );
}

function says(told: NonNullable<PairedWorker["update"]>) {
  switch (told.state) {
    case "told":
      return `Told to become ${told.version} by ${told.by}, ${ago(told.told_at)}. ${told.problem ?? ""}`;
    case "taken":
      return `Has taken ${told.version}, ${ago(told.changed_at)}, and starts it`;
    case "done":
      return `Became ${told.version} ${ago(told.changed_at)}`;
    default:
      return `Is not ${told.version}: ${told.problem ?? ""}`;
  }
}
