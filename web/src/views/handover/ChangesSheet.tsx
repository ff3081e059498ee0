import { Download } from "lucide-react";
import { useState } from "react";
import type { HandoverVersion } from "@/api/client";
import { usePackChanges } from "@/api/handover";
import { Choice } from "@/parts/Choice";
import { Sheet } from "@/parts/Sheet";
import { Trouble } from "@/parts/Trouble";
import { ChangeList } from "./ChangeList";

type Props = { site: string; version: HandoverVersion; before?: HandoverVersion; newest: boolean; onClose: () => void };

/** What has changed since a version up to now, or what it changed against the one before; with the way to take that along. */
export function ChangesSheet({ site, version: v, before, newest, onClose }: Props) {
  const earlier = before?.made ? before : undefined;
  const [to, setTo] = useState<"now" | "before">(newest || !earlier ? "now" : "before");
  const from = to === "before" && earlier ? earlier : v;
  const until = to === "before" && earlier ? v : undefined;
  const changes = usePackChanges(site, from.id, until?.id);
  return (
    <Sheet
      title={until ? `Version ${from.number} to version ${until.number}` : `Version ${from.number} to now`}
      open
      onOpenChange={onClose}
      wide
    >
      <div className="space-y-3">
        {earlier && (
          <Choice
            label="Compare"
            value={to}
            onChange={setTo}
            options={[
              ["now", "with the site as it is now"],
              ["before", `with version ${earlier.number}, the one before`],
            ]}
          />
        )}
        <Trouble error={changes.error} />
        {changes.data && <ChangeList list={changes.data.changes} none="Nothing has changed." />}
        <p>
          <a
            className="inline-flex min-h-7 items-center gap-1 underline underline-offset-2"
            href={`/api/sites/${site}/handover/versions/${from.id}/changes/file${until ? `?to=${until.id}` : ""}`}
          >
            <Download size={14} /> Only what changed, with reasons, as files
          </a>
        </p>
      </div>
    </Sheet>
  );
}
