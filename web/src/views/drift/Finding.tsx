import { ChevronRight } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { Link } from "react-router";
import type { Cause } from "@/api/client";
import { usePutOff, useTimeLine } from "@/api/drifts";
import { useMay } from "@/api/queries";
import { Button } from "@/parts/Button";
import { StateSign } from "@/parts/StateSign";
import { useFrame } from "@/parts/useFrame";
import { AcceptSheet } from "./AcceptSheet";
import { Band } from "./Band";
import { Change } from "./Change";
import { RepairSheet } from "./RepairSheet";
import { ReplaceSheet } from "./ReplaceSheet";
import { between, putOffs, repairWord } from "./words";

const signs = { urgent: "broken", warning: "stale", notice: "waiting" } as const;

/** One cause with what can be done about it. It opens to what changed, why that is, and whom it concerns. */
export function Finding({ finding: f, first }: { finding: Cause; first?: boolean }) {
  const { site, devices } = useFrame();
  const may = useMay();
  const [open, setOpen] = useState(!!first);
  const [sheet, setSheet] = useState<"accept" | "repair" | "replace" | null>(null);
  const putOff = usePutOff(site.id);
  const word = repairWord(f);
  return (
    <li data-cause={f.cause} className="border-b py-3">
      <div className="flex flex-wrap items-start gap-x-3 gap-y-2">
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="flex min-w-0 grow basis-64 items-start gap-2 text-left"
        >
          <ChevronRight size={16} className={`mt-0.5 shrink-0 text-soft transition-transform ${open ? "rotate-90" : ""}`} />
          <span className="mt-1">
            <StateSign state={signs[f.severity]} />
          </span>
          <span className="min-w-0">
            <span className="block font-semibold break-words">{f.headline}</span>
            <span className="block text-small text-soft">
              <span className={f.severity === "urgent" ? "text-stuck" : ""}>{f.severity}</span> · {between(f.since, f.after)}
              {f.flaps ? ` · came again ${f.flaps} times` : ""}
              {f.put_off ? ` · put off until ${new Date(f.put_off).toLocaleString()} by ${f.put_off_by}` : ""}
            </span>
          </span>
        </button>
        {may("work") && (
          <span className="flex flex-wrap gap-2">
            {word && !f.put_off && (
              <Button look={first ? "next" : "plain"} onClick={() => setSheet("repair")}>
                {word}
              </Button>
            )}
            {f.replaced && (
              <Button look={first && !word ? "next" : "plain"} onClick={() => setSheet("replace")}>
                It was replaced
              </Button>
            )}
            {f.acceptable && <Button onClick={() => setSheet("accept")}>Accept</Button>}
            {f.put_off ? (
              <Button onClick={() => putOff.mutate({ drifts: f.ids })}>Hear of it again</Button>
            ) : (
              <PutOff onChoose={(until) => putOff.mutate({ drifts: f.ids, until: until.toISOString() })} />
            )}
          </span>
        )}
      </div>
      {open && <Details finding={f} site={site.id} />}
      {sheet === "accept" && <AcceptSheet site={site.id} finding={f} onClose={() => setSheet(null)} />}
      {sheet === "repair" && <RepairSheet site={site.id} finding={f} onClose={() => setSheet(null)} />}
      {sheet === "replace" && <ReplaceSheet site={site.id} devices={devices} old={f.drifts[0]!} onClose={() => setSheet(null)} />}
    </li>
  );
}

/** What changed, why that is thought to be so, and what to do. */
function Details({ finding: f, site }: { finding: Cause; site: string }) {
  return (
    <div className="mt-2 ml-6 space-y-2 border-l-2 pl-4">
      {f.why && <p>{f.why}</p>}
      {f.do && (
        <p>
          <strong>What to do:</strong> {f.do}
        </p>
      )}
      {!!f.flaps && f.drifts[0]?.device && <LastDay site={site} device={f.drifts[0].device} />}
      <ul className="space-y-1.5">
        {f.drifts.map((d) => (
          <li key={d.id} className="grid gap-x-4 sm:grid-cols-[12rem_1fr]">
            <span className="break-words">
              {d.device ? (
                <Link to={`/sites/${site}/timeline/${d.device}`} className="underline decoration-1 underline-offset-2">
                  {d.title}
                </Link>
              ) : (
                d.title
              )}
            </span>
            <span className="min-w-0 text-small">
              {d.changes.map((c) => (
                <Change key={`${c.field} ${c.subject}`} change={c} />
              ))}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** How something that comes and goes was over the last day. */
function LastDay({ site, device }: { site: string; device: string }) {
  const { data } = useTimeLine(site, device, 24);
  return data ? <Band view={data} /> : null;
}

/** Chooses until when nobody wants to hear of a finding. */
function PutOff({ onChoose }: { onChoose: (until: Date) => void }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button look="quiet">Put off</Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={4} className="z-50 min-w-44 rounded-md border bg-sheet p-1 shadow-xl">
          {putOffs(new Date()).map((p) => (
            <DropdownMenu.Item
              key={p.name}
              className="flex h-8 cursor-pointer items-center rounded-sm px-3 outline-none data-highlighted:bg-well"
              onSelect={() => onChoose(p.until)}
            >
              {p.name}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
