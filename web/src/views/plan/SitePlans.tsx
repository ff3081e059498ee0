import { Plus } from "lucide-react";
import { useState } from "react";
import { useSearchParams } from "react-router";
import type { Device } from "@/api/client";
import { useMay } from "@/api/queries";
import { useRemoveSitePlan, useSitePlans } from "@/api/siteplans";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { stillOf } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { Sure } from "@/parts/Sure";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";
import { AddPlanSheet } from "./AddPlanSheet";
import { SitePlanView } from "./SitePlanView";

/** Where the cameras hang: pictures of the building with a mark a camera, for finding one's way with the ladder. */
export function SitePlans() {
  const { site, devices } = useFrame();
  const plans = useSitePlans(site.id);
  const remove = useRemoveSitePlan(site.id);
  const may = useMay();
  const [params, setParams] = useSearchParams();
  const [adding, setAdding] = useState(false);
  const [hand, setHand] = useState<string | null>(null);
  const list = plans.data ?? [];
  const plan = list.find((p) => p.id === params.get("plan")) ?? list[0];
  const cameras = devices.filter((d) => d.kind === "camera" && !d.stray);
  const on = new Set(plan?.marks.map((m) => m.device));
  const loose = cameras.filter((d) => !on.has(d.id));
  if (plans.error) return <Trouble error={plans.error} />;
  const add = adding && (
    <AddPlanSheet site={site.id} onClose={() => setAdding(false)} onAdded={(id) => setParams({ plan: id }, { replace: true })} />
  );
  if (!plan)
    return (
      <div className="m-auto flex h-full max-w-md flex-col items-center justify-center space-y-3 p-6 text-center">
        {plans.data && (
          <>
            <p className="text-lead font-semibold">No site plan yet</p>
            <p className="text-soft">
              Bring a drawing or a photograph of the building and mark where each camera hangs: whoever comes with the ladder finds it.
            </p>
            {may("work") && (
              <Button look="next" onClick={() => setAdding(true)}>
                Bring a site plan
              </Button>
            )}
          </>
        )}
        {add}
      </div>
    );
  return (
    <div className="flex h-full flex-col">
      <div className="flex flex-wrap items-center gap-2 border-b bg-sheet px-3 py-2 sm:px-4">
        <Choice
          label="Plan"
          value={plan.id}
          onChange={(id) => setParams({ plan: id }, { replace: true })}
          options={list.map((p) => [p.id, p.name] as const)}
        />
        <span className="grow text-soft max-sm:hidden">
          {hand ? "Press on the plan where it hangs." : `${plan.marks.length} of ${cameras.length} cameras are on it.`}
        </span>
        {may("work") && (
          <>
            <Sure
              ask={`Remove the plan “${plan.name}”?`}
              more="Its picture and its marks are gone then; the cameras stay as they are."
              yes="Remove the plan"
              onYes={() => remove.mutate(plan.id)}
            >
              <Button look="quiet">Remove it</Button>
            </Sure>
            <Button onClick={() => setAdding(true)}>
              <Plus size={14} /> Another plan
            </Button>
          </>
        )}
      </div>
      <div className="flex min-h-0 grow max-md:flex-col-reverse">
        {may("work") && <Shelf loose={loose} hand={hand} setHand={setHand} />}
        <SitePlanView
          plan={plan}
          devices={cameras}
          hand={loose.find((d) => d.id === hand)}
          onPut={() => {
            const i = loose.findIndex((d) => d.id === hand);
            setHand(loose[i + 1]?.id ?? null);
          }}
        />
      </div>
      {add}
    </div>
  );
}

/** The cameras that are not on the plan yet: one is taken in hand, and the next press on the plan puts it there. */
function Shelf({ loose, hand, setHand }: { loose: Device[]; hand: string | null; setHand: (id: string | null) => void }) {
  return (
    <section
      aria-label="Cameras that are not on the plan"
      className="w-64 shrink-0 overflow-auto border-r bg-sheet max-md:h-40 max-md:w-full max-md:border-t"
    >
      <h2 className="px-3 py-2 text-small text-soft">{loose.length === 0 ? "Every camera is on it." : "Not on the plan yet"}</h2>
      <ul>
        {loose.map((d) => (
          <li key={d.id}>
            <button
              type="button"
              aria-pressed={hand === d.id}
              className={`flex w-full items-center gap-2 px-3 py-1 text-left ${hand === d.id ? "is-picked" : "hover:bg-well"}`}
              onClick={() => setHand(hand === d.id ? null : d.id)}
            >
              <Still src={stillOf(d)} name={d.name} className="h-8 w-14" />
              <span className="min-w-0">
                <span className="block truncate">{d.name}</span>
                <span className="mono block truncate text-tiny text-soft">{d.via ? `channel ${d.via.channel}` : d.address}</span>
              </span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
