import { Plus, RefreshCw } from "lucide-react";
import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import type { Device } from "@/api/client";
import { useOpenLatches } from "@/api/actions";
import { useFittings, useTargets } from "@/api/queries";
import { useLookAt } from "@/api/targets";
import { TargetSheet } from "./TargetSheet";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { Trouble } from "@/parts/Trouble";
import { useMedia } from "@/parts/useMedia";
import { PatchBench } from "./PatchBench";
import { PatchMatrix } from "./PatchMatrix";
import { PatchTable } from "./PatchTable";
import { useFrame } from "@/parts/useFrame";

/** The patch bench: channels at the left, targets with their slots at the right, a cord for each placement. */
export function Patch() {
  const { site, devices } = useFrame();
  const wide = useMedia("(min-width: 900px)");
  const [look, setLook] = useState<"cords" | "matrix">("cords");
  const targets = useTargets(site.id);
  const [adding, setAdding] = useState(false);
  const [only, setOnly] = useState(false);
  const lookAt = useLookAt(site.id);
  const open = useOpenLatches(site.id);
  const channels = useMemo(() => devices.filter((d) => d.kind === "camera" && !d.stray), [devices]);
  const list = useMemo(() => targets.data ?? [], [targets.data]);
  const fittings = useFittings(
    site.id,
    useMemo(() => channels.map((d) => d.id), [channels]),
  );
  const [params, setParams] = useSearchParams();
  const broken = channels.flatMap((d) => d.placements.filter((p) => p.diagnosis).map((p) => ({ device: d.id, target: p.target })));
  const nextBroken = () => {
    const at = params.get("cord");
    const i = broken.findIndex((b) => `${b.device} ${b.target}` === at);
    const b = broken[(i + 1) % broken.length];
    if (b) setParams({ cord: `${b.device} ${b.target}` }, { replace: true });
  };
  const behind = channels.filter((d) => d.placements.some((p) => p.moved));
  if (targets.error) return <Trouble error={targets.error} />;
  const head = (
    <div className="flex flex-wrap items-center gap-2 border-b bg-sheet px-3 py-2 sm:px-4">
      <p className="min-w-0 grow text-soft max-sm:hidden">{hint(channels, list.length)}</p>
      {broken.length > 0 && !(wide && look === "matrix") && (
        <Button
          look={behind.length > 0 || params.get("cord") ? "plain" : "next"}
          aria-pressed={!wide && only}
          onClick={() => (wide ? nextBroken() : setOnly(!only))}
        >
          {only ? "Show all again" : broken.length === 1 ? "See what is broken" : `See the ${broken.length} that are broken`}
        </Button>
      )}
      {behind.length > 0 && (
        <Button look="next" onClick={() => open.mutate({ devices: behind.map((d) => d.id) })}>
          Bring {behind.length === 1 ? "1 camera" : `${behind.length} cameras`} up to date
        </Button>
      )}
      {wide && (
        <Choice
          label="Shown as"
          value={look}
          onChange={setLook}
          options={[
            ["cords", "Cords"],
            ["matrix", "Matrix"],
          ]}
        />
      )}
      <Button onClick={() => lookAt.mutate({})} disabled={list.length === 0}>
        <RefreshCw size={14} /> Look again
      </Button>
      <Button look={list.length === 0 ? "next" : "plain"} onClick={() => setAdding(true)}>
        <Plus size={14} /> Add a target
      </Button>
    </div>
  );
  return (
    <div className="flex h-full flex-col">
      {head}
      {list.length === 0 && targets.data ? (
        <div className="m-auto max-w-md space-y-2 p-6 text-center">
          <p className="text-lead font-semibold">Nothing takes cameras here yet</p>
          <p className="text-soft">
            A recorder that is signed in to stands here by itself. Add what no sweep finds: management software, a panel, a hub, screens, a
            list for anything else.
          </p>
        </div>
      ) : wide && look === "cords" ? (
        <PatchBench
          channels={channels}
          fittings={fittings.data ?? new Map()}
          anew={async () => (await fittings.refetch()).data ?? new Map()}
        />
      ) : wide ? (
        <PatchMatrix channels={channels} targets={list} fittings={fittings.data ?? new Map()} />
      ) : (
        <PatchTable
          channels={only ? channels.filter((d) => d.placements.some((p) => p.diagnosis)) : channels}
          targets={list}
          fittings={fittings.data ?? new Map()}
        />
      )}
      {adding && <TargetSheet site={site.id} open onOpenChange={setAdding} targets={list} />}
    </div>
  );
}

function hint(channels: Device[], targets: number) {
  const all = channels.flatMap((d) => d.placements);
  const broken = all.filter((p) => p.diagnosis).length;
  const waiting = all.filter((p) => !p.diagnosis && !p.confirmed).length;
  if (targets === 0) return "";
  if (broken > 0) return `${broken === 1 ? "1 cord is" : `${broken} cords are`} broken.`;
  if (waiting > 0) return `${waiting === 1 ? "1 cord waits" : `${waiting} cords wait`} for the target’s word.`;
  return all.length > 0
    ? `All ${all.length} placements are confirmed.`
    : "Drag a camera’s plug into a slot, or take it with T and walk with the arrow keys.";
}
