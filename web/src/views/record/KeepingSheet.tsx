import { useState } from "react";
import type { KeepingRule } from "@/api/client";
import { useKeeping, useSetKeeping } from "@/api/keeping";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { Trouble } from "@/parts/Trouble";

const lines: { field: keyof KeepingRule; label: string }[] = [
  { field: "exchanges", label: "Conversations with devices in which all went well" },
  { field: "repeats", label: "Records that say the same as the one before" },
  { field: "minutes", label: "Measures by the minute" },
  { field: "quarters", label: "Measures by the quarter of an hour" },
  { field: "hours", label: "Measures by the hour" },
];

/** Says for how many days the past is kept. */
export function KeepingSheet({ onClose }: { onClose: () => void }) {
  const keeping = useKeeping();
  return (
    <Sheet title="How long things are kept" open onOpenChange={(o) => !o && onClose()}>
      <Trouble error={keeping.error} />
      {keeping.data && <Rule set={keeping.data.set} holds={keeping.data.holds} onClose={onClose} />}
    </Sheet>
  );
}

function Rule({ set, holds, onClose }: { set: KeepingRule; holds: KeepingRule; onClose: () => void }) {
  const [draft, setDraft] = useState(holds);
  const save = useSetKeeping();
  const usual = Object.values(set).every((days) => !days);
  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(draft, { onSuccess: onClose });
      }}
    >
      <p>
        The first, the last and every change stay for good, and so does what an agreed state, a drift or an open latch stands on. Only this
        is thinned, at night:
      </p>
      {lines.map(({ field, label }) => (
        <Field
          key={field}
          label={`${label}, days`}
          name={field}
          type="number"
          min={1}
          max={36500}
          value={draft[field] || ""}
          onChange={(e) => setDraft({ ...draft, [field]: Number(e.target.value) })}
        />
      ))}
      <Foot error={save.error}>
        {!usual && <Button onClick={() => save.mutate({}, { onSuccess: onClose })}>As it was at first</Button>}
        <span className="grow" />
        <Button onClick={onClose}>Cancel</Button>
        <Button look="next" type="submit" disabled={save.isPending}>
          Save
        </Button>
      </Foot>
    </form>
  );
}
