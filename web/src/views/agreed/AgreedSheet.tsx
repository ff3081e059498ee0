import { useState } from "react";
import type { Device } from "@/api/client";
import { useTakeBaseline } from "@/api/baselines";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { inScope } from "@/parts/latches";
import { Sheet } from "@/parts/Sheet";

type Props = { site: string; devices: Device[]; onClose: () => void; onTaken: () => void };

/** Keeps the state of all devices, as it is known now, as agreed on. What is not finished has to have a reason. */
export function AgreedSheet({ site, devices, onClose, onTaken }: Props) {
  const [name, setName] = useState("Handed over");
  const [reason, setReason] = useState("");
  const take = useTakeBaseline(site);
  const own = devices.filter(inScope);
  const open = own.filter((d) => d.latches.some((l) => l.state !== "open" && l.state !== "waived"));
  const done = () => {
    onTaken();
    onClose();
  };
  return (
    <Sheet title="Agree on the state of now" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          take.mutate({ name, reason }, { onSuccess: done });
        }}
      >
        <p>
          What is known now of {own.length === 1 ? "the one device" : `all ${own.length} devices`} is kept. It is not changed later: agree
          again after work on the site.
        </p>
        <Field label="Name" name="name" autoComplete="off" value={name} onChange={(e) => setName(e.target.value)} />
        {open.length > 0 && (
          <div className="border-l-4 border-brass bg-well px-3 py-2 text-small">
            <strong>{open.length === 1 ? "1 device is" : `${open.length} devices are`} not finished:</strong>{" "}
            {open
              .slice(0, 8)
              .map((d) => d.name || d.address)
              .join(", ")}
            {open.length > 8 && ` and ${open.length - 8} more`}.
          </div>
        )}
        <Field
          label={open.length > 0 ? "Why that is agreed on all the same" : "Reason, if there is something to say"}
          name="reason"
          autoComplete="off"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Foot error={take.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={take.isPending || !name.trim() || (open.length > 0 && !reason.trim())}>
            Agree
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
