import { useState } from "react";
import { base64 } from "@/api/base64";
import type { Handover } from "@/api/client";
import { useSetFirm } from "@/api/handover";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { FileButton } from "@/parts/FileButton";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

/** Whose papers these are: the firm's name and mark, on the cover of every pack. */
export function FirmSheet({ site, firm, onClose }: { site: string; firm: Handover["firm"]; onClose: () => void }) {
  const [name, setName] = useState(firm.name);
  const [mark, setMark] = useState<File | null>(null);
  const [noMark, setNoMark] = useState(false);
  const set = useSetFirm(site);
  const choose = (f: File | null) => {
    setMark(f);
    setNoMark(!f);
  };
  return (
    <Sheet title="Your firm" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={async (e) => {
          e.preventDefault();
          set.mutate({ name, mark: mark ? await base64(mark) : undefined, no_mark: noMark }, { onSuccess: onClose });
        }}
      >
        <Field
          label="Name, as it stands on the cover"
          name="firm"
          autoComplete="organization"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <div className="flex flex-wrap items-center gap-3">
          {firm.has_mark && !mark && !noMark && (
            <img src="/api/firm/mark" alt="The firm’s mark" className="max-h-12 max-w-40 bg-white p-1" />
          )}
          <FileButton name="The firm’s mark" accept="image/png,image/jpeg" onFile={(f) => choose(f)}>
            {mark ? mark.name : "Choose a mark (PNG or JPEG)"}
          </FileButton>
          {(firm.has_mark || mark) && !noMark && (
            <Button look="quiet" onClick={() => choose(null)}>
              Without a mark
            </Button>
          )}
        </div>
        <Foot error={set.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={set.isPending}>
            Keep it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
