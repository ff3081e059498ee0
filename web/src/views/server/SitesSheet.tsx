import { useState } from "react";
import type { PairedWorker } from "@/api/client";
import { useGiveSites } from "@/api/paired";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { SiteChoice } from "./SiteChoice";

/** Changes which sites a paired worker has. */
export function SitesSheet({ worker, onClose }: { worker: PairedWorker; onClose: () => void }) {
  const [given, setGiven] = useState(worker.sites);
  const [shared, setShared] = useState(worker.shared);
  const give = useGiveSites();
  return (
    <Sheet title={`Sites of ${worker.name}`} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          give.mutate({ worker: worker.id, sites: given, shared }, { onSuccess: onClose });
        }}
      >
        <SiteChoice given={given} onGiven={setGiven} shared={shared} onShared={setShared} />
        <Foot error={give.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={give.isPending}>
            Keep
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
