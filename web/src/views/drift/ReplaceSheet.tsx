import { useState } from "react";
import type { Cause, Device } from "@/api/client";
import { useReplace } from "@/api/drifts";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { inScope } from "@/parts/latches";
import { Sheet } from "@/parts/Sheet";

type Props = { site: string; devices: Device[]; old: Cause["drifts"][number]; onClose: () => void };

/** Has a new camera take over what an old one was: name, roles, plans, slots, place on the site plan. */
export function ReplaceSheet({ site, devices, old, onClose }: Props) {
  const before = devices.find((d) => d.id === old.device);
  const others = devices.filter((d) => d.id !== old.device && d.kind === "camera" && inScope(d) && d.placements.length === 0);
  const likely = others.find((d) => d.address === before?.address) ?? others[0];
  const [by, setBy] = useState(likely?.id ?? "");
  const replace = useReplace(site);
  return (
    <Sheet title={`Replace ${old.title}`} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          replace.mutate({ device: by, replaces: old.device! }, { onSuccess: onClose });
        }}
      >
        <p>
          The new camera takes over its name, its plan, its slots on targets and its place on the site plan. The old one keeps its record.
        </p>
        {others.length === 0 ? (
          <p className="border-l-4 border-stuck bg-well px-3 py-2">
            No other camera of the site is free: sweep, so that the new one is heard.
          </p>
        ) : (
          <label className="block">
            <span className="mb-1 block text-small text-soft">The new camera</span>
            <select value={by} onChange={(e) => setBy(e.target.value)} className="h-9 w-full rounded-md border bg-sheet px-2">
              {others.map((d) => (
                <option key={d.id} value={d.id}>
                  {[d.name || "no name", d.address, d.serial].filter(Boolean).join(", ")}
                </option>
              ))}
            </select>
          </label>
        )}
        <Foot error={replace.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={replace.isPending || !by}>
            Put it in place
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
