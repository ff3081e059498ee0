import { useState } from "react";
import type { ReadyFinding } from "@/api/client";
import { useWaive } from "@/api/handover";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

/** Hands things over all the same. The reason stands in the papers, with who gave it. */
export function WaiveSheet({ site, finding: f, onClose }: { site: string; finding: ReadyFinding; onClose: () => void }) {
  const [reason, setReason] = useState("");
  const [without, setWithout] = useState<string[]>([]);
  const waive = useWaive(site);
  const things = f.things.filter((t) => !without.includes(t.id));
  return (
    <Sheet title="Hand over all the same" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          waive.mutate({ cause: f.cause, things: things.map((t) => t.id), reason }, { onSuccess: onClose });
        }}
      >
        <p>
          <strong>{f.title}.</strong> Your name and the reason stand in the papers and in the record.
        </p>
        {f.things.length > 1 && (
          <ul className="max-h-48 overflow-auto border-y py-1">
            {f.things.map((t) => (
              <li key={t.id} className="flex items-center gap-2 py-1">
                <Check
                  label={`Waive ${t.title}`}
                  checked={!without.includes(t.id)}
                  onChange={() => setWithout(without.includes(t.id) ? without.filter((x) => x !== t.id) : [...without, t.id])}
                />
                {t.title}
              </li>
            ))}
          </ul>
        )}
        <Field
          label="Why it is handed over like that"
          name="reason"
          autoComplete="off"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Foot error={waive.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={waive.isPending || !reason.trim() || things.length === 0}>
            Waive {f.things.length > 1 ? things.length : ""}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
