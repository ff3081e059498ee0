import type { LaidOpen as Open, PairedWorker } from "@/api/client";
import { useLaidOpen, useRotateKey } from "@/api/paired";
import { useSites } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Trouble } from "@/parts/Trouble";

/** The sign-ins that a worker could read and no longer can: what is to be changed on the devices, and whose key is to be replaced. */
export function LaidOpen({ worker }: { worker: PairedWorker }) {
  const open = useLaidOpen(worker.id);
  const rotate = useRotateKey();
  const sites = useSites().data ?? [];
  const list = (open.data ?? []).filter((x) => !x.gone);
  if (list.length === 0) return <Trouble error={open.error} />;
  const which = [...new Set(list.map((x) => x.site ?? ""))];
  return (
    <div className="mt-1 border-l-2 border-stuck pl-3 text-small sm:col-span-4">
      <p>
        It could read {list.length === 1 ? "a sign-in" : `${list.length} sign-ins`}. Give each site another key, so that what it may have
        kept opens nothing new; and change these on the devices.
      </p>
      <Trouble error={rotate.error} />
      {which.map((site) => (
        <p key={site} className="mt-1 flex flex-wrap items-center gap-x-3">
          <span className="font-medium">{site ? (sites.find((s) => s.id === site)?.name ?? "a site that is gone") : "For every site"}</span>
          <span className="min-w-0 flex-1 text-soft">{words(list.filter((x) => (x.site ?? "") === site))}</span>
          <Button look="quiet" className="h-7" disabled={rotate.isPending} onClick={() => rotate.mutate(site || undefined)}>
            Another key
          </Button>
        </p>
      ))}
    </div>
  );
}

/** A few of them by name, and how many more. */
function words(list: Open[]) {
  const few = list.slice(0, 4).map((x) => x.what);
  return few.join("; ") + (list.length > few.length ? ` and ${list.length - few.length} more` : "");
}
