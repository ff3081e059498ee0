import { useEffect, useRef, useState } from "react";
import { useReckon, useSaveRecording } from "@/api/actions";
import type { Costs, Device, Recording } from "@/api/client";
import { useRecording } from "@/api/queries";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { CostPlot } from "./CostPlot";
import type { Draft, Drafts } from "./matrix";
import { bitrate } from "@/parts/measures";
import { planText, type Role } from "@/parts/plan";
import { Trouble } from "@/parts/Trouble";

/** A draft as the server reads a plan: by part, as text. */
const textsOf = ({ overlay, ...wishes }: Draft): Record<string, string> => ({
  ...Object.fromEntries(Object.entries(wishes).map(([role, w]) => [role, planText(w)])),
  ...(overlay ? { overlay } : {}),
});

/** Drafts as the server reads plans: by device, by part, as text. */
export const plansOf = (drafts: Drafts) => Object.fromEntries([...drafts].map(([id, draft]) => [id, textsOf(draft)]));

const number = (text: string) => (Number.isFinite(Number(text)) ? Number(text) : 0);

/** What all the streams cost: days of recording and load on the links, as they are and as they would be. */
export function StreamsCosts({
  site,
  devices,
  drafts,
  planBitrates,
}: {
  site: string;
  devices: Device[];
  drafts: Drafts;
  planBitrates: (list: { device: string; role: Role; kbps: number }[]) => void;
}) {
  const said = useRecording(site);
  const [own, setForm] = useState<Recording | null>(null);
  const form = own ?? said.data;
  const reckon = useReckon(site);
  const save = useSaveRecording(site);
  const backwards = useReckon(site);
  const [costs, setCosts] = useState<Costs | null>(null);
  const [factor, setFactor] = useState(1);
  const [days, setDays] = useState("30");

  // What is shown follows what is typed, here and in the matrix, and what is measured.
  const { mutate } = reckon;
  const keep = save.mutate;
  const touched = useRef(false);
  // biome-ignore lint/correctness/useExhaustiveDependencies: new measures of the devices change the answer
  useEffect(() => {
    if (!form) return;
    const t = window.setTimeout(() => {
      mutate(
        { form, plans: plansOf(drafts) },
        {
          onSuccess: (c) => {
            setCosts(c);
            if (touched.current) keep(form);
          },
        },
      );
    }, 150);
    return () => clearTimeout(t);
  }, [form, drafts, devices, mutate, keep]);

  if (!form) return null;
  const change = (part: Partial<Recording>) => {
    touched.current = true;
    setForm({ ...form, ...part });
  };
  const wanted = number(days);
  const plan = (evenly: boolean) =>
    backwards.mutate(
      { form: { ...form, days: wanted, evenly }, plans: plansOf(drafts) },
      { onSuccess: (c) => planBitrates((c.for_days ?? []) as { device: string; role: Role; kbps: number }[]) },
    );
  return (
    <aside aria-label="What it costs" className="flex min-h-0 flex-col overflow-auto border-l bg-sheet px-4 py-3 max-lg:border-l-0">
      <h2 className="mb-2 font-semibold">What it costs</h2>
      {costs && <Numbers costs={costs} factor={factor} link={form.outside_mbps ?? 0} />}
      <Trouble error={reckon.error} />
      {costs && costs.cost.days > 0 && (
        <>
          <CostPlot costs={costs} factor={factor} onFactor={setFactor} />
          <label className="mb-1 block text-small text-soft">
            What if everything recorded had {Math.round(factor * 100)} % of its bitrate?
            <input
              type="range"
              min={-3}
              max={2}
              step={0.05}
              value={Math.log2(factor)}
              onChange={(e) => setFactor(2 ** Number(e.target.value))}
              className="w-full accent-(--brass)"
            />
          </label>
        </>
      )}
      <div className="mt-1 flex flex-wrap items-center gap-2 border-t pt-3">
        <label className="flex items-center gap-2">
          Keep
          <input
            name="days"
            value={days}
            onChange={(e) => setDays(e.target.value)}
            inputMode="decimal"
            className="mono h-8 w-14 rounded-md border bg-sheet px-2 text-right"
          />
          days
        </label>
        <Button disabled={!(wanted > 0) || backwards.isPending} onClick={() => plan(false)} title="Each camera keeps its share">
          Plan the bitrates
        </Button>
        <Button look="quiet" disabled={!(wanted > 0) || backwards.isPending} onClick={() => plan(true)}>
          Evenly
        </Button>
      </div>
      <Trouble error={backwards.error} />
      <RecordingForm form={form} change={change} />
      {costs && costs.cost.days > 0 && <Choices costs={costs} />}
    </aside>
  );
}

const daysText = (v: number) => (v >= 100 ? v.toFixed(0) : v.toFixed(1));

function Numbers({ costs, factor, link }: { costs: Costs; factor: number; link: number }) {
  const c = costs.cost;
  const whatIf = Math.abs(factor - 1) > 0.005;
  const inbound = c.inbound_mbps + (costs.kbps / 1000) * (factor - 1);
  const outside = c.outside_mbps ?? 0;
  return (
    <div className="num mb-2" aria-live="polite">
      <p className="text-2xl leading-8">
        {c.days > 0 ? (
          <>
            <strong data-days>{daysText(c.days / factor)}</strong> days
            {whatIf && <span className="text-small text-brass-text"> if, now {daysText(c.days)}</span>}
          </>
        ) : (
          <span className="text-soft">Nothing is recorded</span>
        )}
      </p>
      <p className="text-small text-soft">
        {(c.usable_bytes / 1e12).toFixed(1)} TB usable, {((c.bytes_per_day * factor) / 1e9).toFixed(0)} GB a day
      </p>
      <p className="text-small">
        Into the recorder {inbound.toFixed(1)} Mbit/s
        {c.peak_mbps > c.inbound_mbps * 1.01 && (
          <span className="text-soft"> (at once {(c.peak_mbps + inbound - c.inbound_mbps).toFixed(1)})</span>
        )}
      </p>
      {outside > 0 && (
        <p className={`text-small ${link > 0 && outside > link ? "font-semibold text-stuck" : ""}`}>
          Outside link {outside.toFixed(1)} Mbit/s{link > 0 && ` of ${link}`}
          {link > 0 && outside > link && ", more than it carries"}
        </p>
      )}
      <p className="text-small text-soft">
        Reckoned from {c.measured} measured{c.planned > 0 && `, ${c.planned} planned`}
        {c.unknown > 0 && `, ${c.unknown} unknown`} streams
      </p>
    </div>
  );
}

/** Other sizes, rates and codecs beside the present ones. */
function Choices({ costs }: { costs: Costs }) {
  const most = Math.max(...costs.choices.map((c) => c.days));
  return (
    <section className="mt-4 border-t pt-3" aria-label="What other settings buy">
      <h3 className="mb-1.5 text-small text-soft">What other settings buy, estimated at the same look</h3>
      <ul className="space-y-1.5">
        {costs.choices.map((c, i) => (
          <li key={c.name} className="text-small">
            <span className="flex justify-between gap-2">
              <span>{c.name}</span>
              <span className="num whitespace-nowrap">
                {daysText(c.days)} days <span className="text-soft">{bitrate(c.kbps)}</span>
              </span>
            </span>
            <span className="mt-0.5 block h-1.5 rounded-sm bg-well">
              <span
                className={`block h-full rounded-sm ${i === 0 ? "bg-ink" : "bg-open"}`}
                style={{ width: `${(c.days / most) * 100}%` }}
              />
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** How the site is recorded. */
function RecordingForm({ form, change }: { form: Recording; change: (part: Partial<Recording>) => void }) {
  return (
    <form className="mt-3 grid grid-cols-2 gap-x-3 gap-y-2 border-t pt-3" onSubmit={(e) => e.preventDefault()}>
      <Field label="Disks" name="disks" value={form.disks} onChange={(e) => change({ disks: e.target.value })} mono />
      <label className="block">
        <span className="mb-1 block text-small text-soft">Layout</span>
        <select
          value={form.layout || "none"}
          onChange={(e) => change({ layout: e.target.value })}
          className="h-9 w-full rounded-md border bg-sheet px-1.5"
        >
          <option value="none">none</option>
          <option value="mirrored">mirrored</option>
          <option value="parity">parity (RAID 5)</option>
          <option value="double parity">double parity (RAID 6)</option>
        </select>
      </label>
      <Field
        label="Spare disks"
        type="number"
        min={0}
        value={form.spares ?? 0}
        onChange={(e) => change({ spares: number(e.target.value) })}
      />
      <Field
        label="File system keeps, %"
        type="number"
        min={0}
        max={99}
        value={form.reserve_percent ?? 0}
        onChange={(e) => change({ reserve_percent: number(e.target.value) })}
      />
      <Field
        label="Hours a day"
        type="number"
        min={1}
        max={24}
        value={form.hours || 24}
        onChange={(e) => change({ hours: number(e.target.value) })}
      />
      <Field
        label="With motion, %"
        type="number"
        min={1}
        max={100}
        value={form.motion_percent || 100}
        onChange={(e) => change({ motion_percent: number(e.target.value) })}
      />
      <div className="col-span-2">
        <span className="mb-1 block text-small text-soft">Streams recorded</span>
        <Choice
          label="Streams recorded"
          value={form.records ?? "main"}
          onChange={(records) => change({ records })}
          options={[
            ["main", "main"],
            ["sub", "sub"],
            ["both", "both"],
          ]}
        />
      </div>
      <Field
        label="Viewers outside"
        type="number"
        min={0}
        value={form.viewers ?? 0}
        onChange={(e) => change({ viewers: number(e.target.value) })}
      />
      <Field
        label="Outside link, Mbit/s"
        type="number"
        min={0}
        value={form.outside_mbps ?? 0}
        onChange={(e) => change({ outside_mbps: number(e.target.value) })}
      />
    </form>
  );
}
