import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { Site } from "@/api/client";
import { usePresets } from "@/api/queries";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Choice } from "@/parts/Choice";
import { customersOf } from "@/parts/customers";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { begin, type Doing, forecast, type Order, stop } from "./over";

const doings: [Doing, string][] = [
  ["open", "Open what can go on"],
  ["sweep", "Sweep and open"],
  ["look", "Look now"],
  ["preset", "Plan by a preset"],
  ["user", "Make a stream user"],
];

/** How an order stands at one site. */
type Step = "waits" | "begun" | "refused" | "stopped";

/** Does one thing at many sites, one after the other, after showing what it will do at each; it can be stopped. */
export function AtManySites({ sites, onClose }: { sites: Site[]; onClose: () => void }) {
  const presets = usePresets().data ?? [];
  const [chosen, setChosen] = useState<string[]>(sites.map((s) => s.id));
  const [doing, setDoing] = useState<Doing>("open");
  const [preset, setPreset] = useState("");
  const [user, setUser] = useState("watch");
  const over = useOver();
  const order: Order = { doing, user: user.trim(), preset: presets.find((p) => p.name === preset) ?? presets[0] };
  const of = sites.filter((s) => chosen.includes(s.id));
  const going = over.state !== "before";
  return (
    <Sheet title="At many sites" open onOpenChange={(o) => !o && over.state !== "going" && onClose()} wide>
      <div className="space-y-3">
        <Choice label="What to do" value={doing} onChange={(v) => !going && setDoing(v)} options={doings} className="flex-wrap gap-1" />
        {doing === "preset" && (
          <label className="block text-small text-soft">
            Preset, for main and sub streams
            <select
              value={order.preset?.name ?? ""}
              onChange={(e) => setPreset(e.target.value)}
              disabled={going}
              className="mt-1 block h-9 w-full rounded-md border bg-sheet px-2 text-ink"
            >
              {presets.map((p) => (
                <option key={p.name}>{p.name}</option>
              ))}
            </select>
          </label>
        )}
        {doing === "user" && <Field label="User name" value={user} onChange={(e) => setUser(e.target.value)} disabled={going} />}
        {!going && <Which sites={sites} onChoose={setChosen} />}
        <ul className="max-h-80 divide-y overflow-y-auto border-y">
          {sites.map((s) => (
            <Line
              key={s.id}
              site={s}
              order={order}
              chosen={chosen.includes(s.id)}
              onChosen={() => setChosen(chosen.includes(s.id) ? chosen.filter((x) => x !== s.id) : [...chosen, s.id])}
              going={going}
              step={over.steps[s.id]}
            />
          ))}
        </ul>
        <Foot error={null}>
          {over.state === "before" && <Button onClick={onClose}>Cancel</Button>}
          {over.state === "before" && (
            <Button look="next" disabled={of.length === 0 || (doing === "user" && !order.user)} onClick={() => over.run(of, order)}>
              {`Begin at ${of.length} ${of.length === 1 ? "site" : "sites"}`}
            </Button>
          )}
          {over.state === "going" && <Button onClick={() => over.halt(of)}>Stop</Button>}
          {over.state === "after" && over.begun && <Button onClick={() => over.halt(of)}>Stop what has begun</Button>}
          {over.state === "after" && (
            <Button look="next" onClick={onClose}>
              Close
            </Button>
          )}
        </Foot>
      </div>
    </Sheet>
  );
}

/** Chooses all sites at once, none, or those of a customer. */
function Which({ sites, onChoose }: { sites: Site[]; onChoose: (ids: string[]) => void }) {
  return (
    <div className="flex flex-wrap items-center gap-2">
      <Button onClick={() => onChoose(sites.map((s) => s.id))}>All sites</Button>
      <Button onClick={() => onChoose([])}>None</Button>
      {customersOf(sites).map((c) => (
        <Button key={c} onClick={() => onChoose(sites.filter((s) => s.customer === c).map((s) => s.id))}>
          {c}
        </Button>
      ))}
    </div>
  );
}

/** One site: what would be done there, and how that stands. */
function Line({
  site,
  order,
  chosen,
  onChosen,
  going,
  step,
}: {
  site: Site;
  order: Order;
  chosen: boolean;
  onChosen: () => void;
  going: boolean;
  step?: { is: Step; why?: string };
}) {
  const will = useQuery({
    queryKey: ["forecast", site.id, order.doing, order.user],
    queryFn: () => forecast(site, order),
    enabled: chosen && !going,
    retry: false,
  });
  const says = { waits: "waits", begun: "begun", refused: step?.why ?? "refused", stopped: "stopped" };
  return (
    <li data-over={site.name} data-step={step?.is} className="grid min-h-9 grid-cols-[auto_minmax(0,10rem)_1fr] items-center gap-x-3 py-1">
      <Check checked={chosen} onChange={() => !going && onChosen()} label={site.name} />
      <span className="truncate font-medium">{site.name}</span>
      {step ? (
        <span className={`text-small ${step.is === "begun" ? "text-open" : step.is === "refused" ? "text-stuck" : "text-soft"}`}>
          {says[step.is]}
        </span>
      ) : (
        <span className="text-small text-soft">
          {!site.reached && <span className="mr-2 text-stuck">Nobody reaches it: it waits.</span>}
          {chosen && (will.data?.text ?? (will.error ? String(will.error) : ""))}
        </span>
      )}
    </li>
  );
}

/** Carries an order out site by site. Stopping begins no further one, and stops what has begun. */
function useOver() {
  const [steps, setSteps] = useState<Record<string, { is: Step; why?: string }>>({});
  const [state, setState] = useState<"before" | "going" | "after">("before");
  const halted = useRef(false);
  const since = useRef(new Date());
  const step = (id: string, is: Step, why?: string) => setSteps((all) => ({ ...all, [id]: { is, why } }));
  useEffect(() => {
    if (state !== "going") return;
    // The browser asks before the page goes: the sites that wait would not begin.
    const ask = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [state]);
  return {
    steps,
    state,
    begun: Object.values(steps).some((s) => s.is === "begun"),
    async run(sites: Site[], order: Order) {
      setState("going");
      since.current = new Date(Date.now() - 1000);
      for (const s of sites) step(s.id, "waits");
      for (const s of sites) {
        if (halted.current) break;
        try {
          if ((await forecast(s, order)).any) {
            await begin(s, order);
            step(s.id, "begun");
          } else step(s.id, "refused", "There is nothing to do.");
        } catch (e) {
          step(s.id, "refused", e instanceof Error ? e.message : String(e));
        }
      }
      setState("after");
    },
    async halt(sites: Site[]) {
      halted.current = true;
      for (const s of sites) {
        try {
          await stop(s, since.current);
          step(s.id, "stopped");
        } catch (e) {
          step(s.id, "refused", e instanceof Error ? e.message : String(e));
        }
      }
      setState("after");
    },
  };
}
