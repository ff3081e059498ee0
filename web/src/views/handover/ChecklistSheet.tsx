import { useState } from "react";
import type { Handover } from "@/api/client";
import { usePutChecklist } from "@/api/handover";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

/** Writes the checklist of the site, or that of the firm, as data. What is wrong in it is said with its line, and nothing is lost. */
export function ChecklistSheet({ site, list, onClose }: { site: string; list: Handover["checklist"]; onClose: () => void }) {
  const [yaml, setYaml] = useState(list.yaml);
  const [whose, setWhose] = useState<"site" | "firm">(list.own ? "site" : "firm");
  const put = usePutChecklist(site);
  return (
    <Sheet title="Checklist" open onOpenChange={(o) => !o && onClose()} wide>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate({ yaml, firm: whose === "firm" }, { onSuccess: onClose });
        }}
      >
        <Choice
          label="Whose list"
          value={whose}
          onChange={setWhose}
          options={[
            ["firm", "Of the firm, for every site"],
            ["site", "Of this site alone"],
          ]}
        />
        <label className="block">
          <span className="mb-1 block text-small text-soft">Items, as YAML</span>
          <textarea
            name="yaml"
            spellCheck={false}
            rows={14}
            value={yaml}
            onChange={(e) => setYaml(e.target.value)}
            className="mono w-full rounded-md border bg-sheet p-2.5"
          />
        </label>
        <p className="text-small text-soft">
          An item with <span className="mono">ticks</span> is ticked by what was measured; any other is attested by a person. Known:{" "}
          <span className="mono break-words">{list.rules.join(", ")}</span>.
        </p>
        <Foot error={put.error}>
          {list.own && (
            <Button look="danger" className="mr-auto" onClick={() => put.mutate({ yaml: "", firm: false }, { onSuccess: onClose })}>
              Use the firm’s
            </Button>
          )}
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={put.isPending}>
            Keep it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
