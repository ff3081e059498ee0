import type { Cause } from "@/api/client";
import { useRepair, useWeighRepair } from "@/api/drifts";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { Change } from "./Change";
import { repairSays, repairWord } from "./words";

type Props = { site: string; finding: Cause; onClose: () => void };

/** Shows what would be put back on which device, and puts it back. */
export function RepairSheet({ site, finding, onClose }: Props) {
  const repair = useRepair(site);
  const weigh = useWeighRepair(site, finding.ids);
  return (
    <Sheet title={repairWord(finding) ?? ""} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          repair.mutate(finding.ids, { onSuccess: onClose });
        }}
      >
        <p>{repairSays(finding)}</p>
        {finding.repair !== "open" && <PutBack finding={finding} />}
        <Foot error={repair.error ?? weigh.error} left={weigh.data?.left}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={repair.isPending || weigh.isPending || weigh.isError}>
            {repairWord(finding)}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

/** What each device says now, and what it is to say again. */
function PutBack({ finding }: { finding: Cause }) {
  return (
    <ul aria-label="What is put back" className="max-h-80 space-y-2 overflow-auto border-y py-2">
      {finding.drifts.map((d) => (
        <li key={d.id} className="grid gap-x-4 sm:grid-cols-[10rem_1fr]">
          <span className="font-semibold break-words">{d.title}</span>
          <span className="min-w-0 text-small">
            {d.changes.map((c) => (
              <Change key={`${c.field} ${c.subject}`} change={c} back />
            ))}
          </span>
        </li>
      ))}
    </ul>
  );
}
