import { useState } from "react";
import type { Rounds } from "@/api/client";
import { useSetRounds } from "@/api/drifts";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { Tick } from "./Tick";

type Props = { site: string; rule: Rounds; onClose: () => void };

/** Says how a site is watched: how often, in which hours nobody is told, and what is put right without a person. */
export function RoundsSheet({ site, rule, onClose }: Props) {
  const [draft, setDraft] = useState<Rounds>({ ...rule, on: true });
  const set = useSetRounds(site);
  const change = (more: Partial<Rounds>) => setDraft({ ...draft, ...more });
  const mends = new Set(draft.mends ?? []);
  const mend = (what: "slot" | "settings", on: boolean) => {
    if (on) mends.add(what);
    else mends.delete(what);
    change({ mends: [...mends] });
  };
  const quiet = draft.quiet?.[0];
  return (
    <Sheet title="Watch this site" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate(draft, { onSuccess: onClose });
        }}
      >
        <div className="grid grid-cols-2 gap-3">
          <Field
            label="Minutes a round of cameras"
            name="camera_minutes"
            type="number"
            min={1}
            max={1440}
            value={draft.camera_minutes || 15}
            onChange={(e) => change({ camera_minutes: Number(e.target.value) })}
          />
          <Field
            label="Minutes a round of targets"
            name="target_minutes"
            type="number"
            min={1}
            max={1440}
            value={draft.target_minutes || 5}
            onChange={(e) => change({ target_minutes: Number(e.target.value) })}
          />
        </div>
        <p className="text-small text-soft">
          A look is a handful of questions. Streams are played and pictures judged once a day, and whenever something differs. Nothing is
          looked at while somebody works on it.
        </p>
        <fieldset className="space-y-1">
          <legend className="mb-1 text-small text-soft">Hours of maintenance, in UTC: what is found is told after them</legend>
          <div className="flex items-center gap-2">
            <Tick label="From" checked={!!quiet} onChange={(on) => change({ quiet: on ? [{ from: 22, to: 24 }] : undefined })} />
            {quiet && (
              <>
                <Hour label="from hour" value={quiet.from} most={23} onChange={(from) => change({ quiet: [{ ...quiet, from }] })} />
                to
                <Hour label="to hour" value={quiet.to} most={24} onChange={(to) => change({ quiet: [{ ...quiet, to }] })} />
              </>
            )}
          </div>
        </fieldset>
        <fieldset className="space-y-1">
          <legend className="mb-1 text-small text-soft">
            Put right without a person, at most {draft.mends_a_day || 10} times a day, in your name
          </legend>
          <Tick label="Cameras that a target has lost" checked={mends.has("slot")} onChange={(on) => mend("slot", on)} />
          <Tick label="Streams that are set otherwise" checked={mends.has("settings")} onChange={(on) => mend("settings", on)} />
        </fieldset>
        <Foot error={set.error}>
          {rule.on && (
            <Button look="danger" onClick={() => set.mutate({ ...draft, on: false }, { onSuccess: onClose })}>
              Stop watching
            </Button>
          )}
          <span className="grow" />
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={set.isPending}>
            {rule.on ? "Save" : "Watch"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

function Hour({ label, value, most, onChange }: { label: string; value: number; most: number; onChange: (n: number) => void }) {
  return (
    <input
      aria-label={label}
      type="number"
      min={0}
      max={most}
      value={value}
      onChange={(e) => onChange(Number(e.target.value))}
      className="num h-8 w-16 rounded-md border bg-sheet px-2"
    />
  );
}
