import { useState } from "react";
import type { Cause } from "@/api/client";
import { useAccept } from "@/api/drifts";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

type Props = { site: string; finding: Cause; onClose: () => void };

/** Agrees on what is there now. Somebody has to say why. */
export function AcceptSheet({ site, finding, onClose }: Props) {
  const [reason, setReason] = useState("");
  const accept = useAccept(site);
  return (
    <Sheet title="Accept what has changed" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          accept.mutate({ drifts: finding.ids, reason }, { onSuccess: onClose });
        }}
      >
        <p>
          <strong>{finding.headline}.</strong> From now on this is the agreed state, and what was agreed before is kept as an older version.
        </p>
        <Field
          label="Why"
          name="reason"
          autoComplete="off"
          placeholder="Updated on purpose"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Foot error={accept.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={accept.isPending || !reason.trim()}>
            Accept
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
