import { useState } from "react";
import { usePairWorker } from "@/api/paired";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { SiteChoice } from "./SiteChoice";

/** Makes a machine at a site a worker, by the code that it shows. */
export function PairSheet({ onClose }: { onClose: () => void }) {
  const [code, setCode] = useState("");
  const [name, setName] = useState("");
  const [given, setGiven] = useState<string[]>([]);
  const [shared, setShared] = useState(false);
  const pair = usePairWorker();
  const command = `unlatch worker pair ${location.origin}`;
  return (
    <Sheet title="Pair a worker" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          pair.mutate({ code, name, sites: given, shared }, { onSuccess: onClose });
        }}
      >
        <div>
          <p className="mb-1">On the machine at the site, type this. It shows a code.</p>
          <p className="flex items-center justify-between gap-2 rounded-md bg-well px-2.5 py-1.5">
            <span className="mono text-small [overflow-wrap:anywhere]">{command}</span> <Copy label="Copy" text={command} />
          </p>
        </div>
        <Field
          label="Code that it shows"
          name="code"
          mono
          data-first
          autoComplete="off"
          placeholder="K7QM-2P4X"
          value={code}
          onChange={(e) => setCode(e.target.value)}
        />
        <Field
          label="Where it stands"
          name="name"
          placeholder="Viaduct cabinet"
          autoComplete="off"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <SiteChoice given={given} onGiven={setGiven} shared={shared} onShared={setShared} />
        <Foot error={pair.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={pair.isPending || !code.trim() || !name.trim()}>
            Pair it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
