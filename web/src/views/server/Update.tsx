import type { PairedWorker } from "@/api/client";
import { usePrograms, useUpdateWorker } from "@/api/paired";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { Sure } from "@/parts/Sure";
import { newest } from "./words";

const whatHappens = `It takes the program over its line and starts it, and does nothing else for some seconds. If the new one does not come
  to work, the present one goes on.`;

/** What a paired worker was told to become and how that goes, and the way to tell it. */
export function Update({ worker: w }: { worker: PairedWorker }) {
  const update = useUpdateWorker();
  const version = becomes(w, newest((usePrograms().data ?? []).map((p) => p.version)));
  const told = w.update;
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
      {version && (
        <Sure
          ask={`Update ${w.name} to ${version}?`}
          more={whatHappens}
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

/** Tells all paired workers that run an older version to take the newest program, where there are several. */
export function UpdateAll({ workers }: { workers: PairedWorker[] }) {
  const update = useUpdateWorker();
  const version = newest((usePrograms().data ?? []).map((p) => p.version));
  const of = workers.filter((w) => !w.revoked_at && becomes(w, version));
  if (!version || of.length < 2) return null;
  return (
    <Sure
      ask={`Update ${of.length} workers to ${version}?`}
      more={`${of.map((w) => w.name).join(", ")}. ${whatHappens.replace("It takes", "Each takes")}`}
      yes="Update them"
      keep="Not now"
      onYes={() => {
        for (const w of of) update.mutate({ worker: w.id, version });
      }}
    >
      <Button>
        Update {of.length} to {version}
      </Button>
    </Sure>
  );
}

/** The version that a worker can be told to become: the newest that is offered, unless it is that or becomes it already. */
function becomes(w: PairedWorker, offered: string | undefined) {
  const there = w.version === offered || newest([offered ?? "", w.version]) !== offered;
  return there || (w.update?.version === offered && w.update?.state !== "failed") ? undefined : offered;
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
      return `Not updated to ${told.version}: ${told.problem ?? ""}`;
  }
}
