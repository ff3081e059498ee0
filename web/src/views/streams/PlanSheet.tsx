import { Trash2 } from "lucide-react";
import { useState } from "react";
import { z } from "zod";
import { useDropPlan, usePutPlan, useSavePreset } from "@/api/actions";
import { type Device, type Plan, type Preset, Problem } from "@/api/client";
import { usePlans } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Choice } from "@/parts/Choice";
import { Sheet } from "@/parts/Sheet";
import { Field } from "@/forms/Field";
import { Both } from "@/parts/Both";
import { useSchema } from "@/forms/useSchema";

const Schema = z
  .object({
    main: z.string().trim(),
    sub: z.string().trim(),
    third: z.string().trim(),
    overlay: z.string().trim(),
    name: z.string().trim(),
  })
  .refine((v) => v.main || v.sub || v.third || v.overlay, { path: ["main"], message: "Say what one of the streams shall be." });

type Parts = z.infer<typeof Schema>;
type Owner = "site" | "model" | "selection";

const empty: Parts = { main: "", sub: "", third: "", overlay: "", name: "" };

const written = ({ main, sub, third, overlay }: Parts) =>
  Object.fromEntries(Object.entries({ main, sub, third, overlay }).filter(([, text]) => text !== ""));

/** A plan for a site, a model or the selected cameras: written or begun with a preset. It is kept; nothing is sent. */
export function PlanSheet({
  site,
  open,
  onOpenChange,
  picked,
  presets,
}: {
  site: string;
  open: boolean;
  onOpenChange: (open: boolean) => void;
  picked: Device[];
  presets: Preset[];
}) {
  const form = useSchema<Parts>(Schema, empty);
  const plans = usePlans(site);
  const put = usePutPlan(site);
  const drop = useDropPlan(site);
  const save = useSavePreset();
  const models = [...new Set(picked.map((d) => `${d.maker ?? ""} ${d.model ?? ""}`.trim()).filter(Boolean))];
  const [owner, setOwner] = useState<Owner>("site");
  // The plans as they were when the sheet was opened: what somebody changes meanwhile is not overwritten unseen.
  const [seen, setSeen] = useState<Plan[]>();
  if (open && !seen && plans.data) setSeen(plans.data);
  if (!open && seen) setSeen(undefined);
  const [model, setModel] = useState("");
  const e = form.formState.errors;
  const begin = (p: Preset) => form.reset({ ...empty, ...p.plan, name: form.getValues("name") });
  const keepMine = (was?: Record<string, string>) =>
    form.handleSubmit((v) => {
      const name = owner === "model" ? model || models[0] : owner === "selection" ? v.name : "";
      put.mutate(
        {
          owner,
          name: name || v.name || undefined,
          plan: written(v),
          was: was ?? seen?.find((p) => p.owner === owner && (p.name ?? "") === (name ?? ""))?.plan ?? {},
          devices: owner === "selection" ? picked.map((d) => d.id) : undefined,
        },
        { onSuccess: () => onOpenChange(false) },
      );
    })();
  const other = put.error instanceof Problem ? put.error.changed : undefined;
  const keep = form.handleSubmit((v) => save.mutate({ name: v.name || "Own preset", plan: written(v) }));
  return (
    <Sheet title="Plan streams for many" open={open} onOpenChange={onOpenChange} wide>
      <p className="mb-3 text-soft">
        A plan says what is wanted, and is kept. Nothing is sent before you have seen what changes. Of several plans the nearest counts: the
        camera’s own, then its selection’s, its model’s, the site’s.
      </p>
      <InForce plans={plans.data ?? []} onDrop={(id) => drop.mutate(id)} />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          keepMine();
        }}
        className="space-y-3"
      >
        <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
          <span className="text-small text-soft">Begin with</span>
          {presets.map((p) => (
            <Button key={`${p.book} ${p.name}`} type="button" className="h-7 px-2" title={p.note} onClick={() => begin(p)}>
              {p.name}
            </Button>
          ))}
        </div>
        <Field label="Main stream" {...form.register("main")} placeholder="h264,1920x1080,15fps,4000kbps,gop2s" error={e.main?.message} />
        <Field label="Sub stream" {...form.register("sub")} placeholder="h264,640x360,10fps,512kbps,gop2s" error={e.sub?.message} />
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="Third stream" {...form.register("third")} placeholder="off" />
          <Field
            label="Text in the picture"
            {...form.register("overlay")}
            placeholder="name, time, upper left"
            hint="The name follows the camera’s name."
          />
        </div>
        <div className="flex flex-wrap items-end gap-3 border-t pt-3">
          <div>
            <span className="mb-1 block text-small text-soft">For</span>
            <Choice<Owner>
              label="Whose plan it is"
              value={owner}
              onChange={setOwner}
              options={[
                ["site", "the whole site"],
                ["model", "a model"],
                ["selection", `the ${picked.length} selected`],
              ]}
            />
          </div>
          {owner === "model" && (
            <label className="block">
              <span className="mb-1 block text-small text-soft">Model</span>
              <select value={model || models[0]} onChange={(x) => setModel(x.target.value)} className="h-9 rounded-md border bg-sheet px-2">
                {models.map((m) => (
                  <option key={m}>{m}</option>
                ))}
              </select>
            </label>
          )}
          <Field
            label={owner === "selection" ? "Name of the selection" : "Name, to keep it as a preset"}
            {...form.register("name")}
            className="w-56"
            autoComplete="off"
          />
        </div>
        {other ? (
          <Foot>
            <Both
              changed={other}
              mine={written(form.getValues())}
              onTheirs={() => {
                form.reset({ ...empty, ...other.now });
                setSeen(plans.data);
                put.reset();
              }}
              onMine={() => keepMine(other.now)}
            />
          </Foot>
        ) : (
          <Foot error={put.error ?? save.error}>
            <Button type="submit" look="next" disabled={put.isPending || (owner === "selection" && picked.length === 0)}>
              Keep the plan
            </Button>
            <Button disabled={save.isPending} onClick={keep}>
              Keep as a preset
            </Button>
          </Foot>
        )}
      </form>
    </Sheet>
  );
}

/** The plans that there are, with what takes each away. */
function InForce({ plans, onDrop }: { plans: Plan[]; onDrop: (id: string) => void }) {
  if (plans.length === 0) return null;
  return (
    <ul className="mb-4 divide-y border-y" aria-label="Plans in force">
      {plans.map((p) => (
        <li key={p.id} className="flex items-center gap-3 py-1.5">
          <span className="w-48 shrink-0 truncate">
            {p.owner === "site" ? "The whole site" : p.owner === "model" ? p.name : `${p.name}: ${p.devices?.length ?? 0} cameras`}
          </span>
          <span className="mono min-w-0 grow truncate text-small text-soft">
            {Object.entries(p.plan)
              .map(([part, text]) => `${part} ${text}`)
              .join(" · ")}
          </span>
          <Button look="quiet" className="px-2" aria-label={`Take away the plan of ${p.name || "the site"}`} onClick={() => onDrop(p.id)}>
            <Trash2 size={15} />
          </Button>
        </li>
      ))}
    </ul>
  );
}
