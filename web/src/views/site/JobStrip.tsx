import { Check, CircleStop, X } from "lucide-react";
import { useState } from "react";
import { useStop } from "@/api/actions";
import type { Run } from "@/api/client";
import { useRuns, useSession } from "@/api/queries";
import { Button } from "@/parts/Button";
import { ago, left } from "@/parts/measures";

/** Long work along the bottom of a site: how far, what it does now, time left, stop. It comes from the server and survives a reload. */
export function JobStrip({ site }: { site: string }) {
  const runs = useRuns(site);
  const [open, setOpen] = useState(false);
  const all = runs.data ?? [];
  const running = all.filter((r) => r.state === "running");
  const shown = running.length > 0 ? running : all.slice(0, 1);
  if (all.length === 0) return null;
  return (
    <section aria-label="Long work" className="border-t bg-sheet">
      {open && (
        <ul className="max-h-52 overflow-auto border-b">
          {all
            .filter((r) => !shown.includes(r))
            .map((r) => (
              <Line key={r.id} run={r} site={site} />
            ))}
        </ul>
      )}
      <div className="flex items-stretch">
        <ul className="min-w-0 grow">
          {shown.map((r) => (
            <Line key={r.id} run={r} site={site} />
          ))}
        </ul>
        {all.length > shown.length && (
          <Button look="quiet" className="m-1 self-end text-small" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Hide earlier work" : "Earlier work"}
          </Button>
        )}
      </div>
    </section>
  );
}

function Line({ run, site }: { run: Run; site: string }) {
  const stop = useStop(site);
  const own = useSession().data?.name;
  const share = run.total > 0 ? Math.min(1, run.done / run.total) : 0;
  const running = run.state === "running";
  return (
    <li className="relative flex h-10 items-center gap-3 px-4" data-run={run.state}>
      {running && (
        <span className="absolute inset-x-0 top-0 h-0.5 bg-well">
          <span className="block h-full bg-ink transition-[width] duration-300" style={{ width: `${share * 100}%` }} />
        </span>
      )}
      {run.state === "finished" && <Check size={16} className="shrink-0 text-open" aria-hidden />}
      {run.state === "failed" && <X size={16} className="shrink-0 text-stuck" aria-hidden />}
      {run.state === "stopped" && <CircleStop size={16} className="shrink-0 text-soft" aria-hidden />}
      <span className="shrink-0 truncate font-medium max-sm:max-w-[45%]">{run.title}</span>
      {run.by && run.by !== own && <span className="shrink-0 text-soft max-sm:hidden">by {run.by}</span>}
      <span className="min-w-0 grow truncate text-soft">
        {running ? run.doing : run.state === "failed" ? run.problem : run.kind === "sweep" ? run.doing : ""}
      </span>
      {running ? (
        <>
          <span className="num shrink-0 text-soft">
            {run.kind === "sweep" ? `${Math.round(share * 100)} %` : `${run.done} of ${run.total}`}
          </span>
          {run.left_ms !== undefined && <span className="num shrink-0 text-soft max-sm:hidden">about {left(run.left_ms)} left</span>}
          <Button className="h-7" onClick={() => stop.mutate(run.id)} disabled={stop.isPending}>
            Stop
          </Button>
        </>
      ) : (
        <span className="shrink-0 text-small text-soft">
          {{ finished: "done", stopped: "stopped", failed: "failed" }[run.state as "finished"]}, {ago(run.created_at)}
        </span>
      )}
    </li>
  );
}
