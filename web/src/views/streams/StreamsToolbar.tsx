import { ChevronDown, Redo2, RotateCcw, Undo2 } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useNavigate } from "react-router";
import { say, useTune } from "@/api/actions";
import type { Preset } from "@/api/client";
import { usePresets, useRuns } from "@/api/queries";
import { Button } from "@/parts/Button";
import { useFrame } from "@/parts/useFrame";
import type { Matrix } from "./useMatrix";

export type StreamsSheet = "plan" | "targets" | "presets";

/** What can be done with the cameras that are selected in the matrix, and with all that was typed. */
export function StreamsToolbar({
  matrix: m,
  preview,
  openSheet,
  showCosts,
}: {
  matrix: Matrix;
  preview: () => void;
  openSheet: (sheet: StreamsSheet) => void;
  /** shows what it costs, where that has no place beside the matrix */
  showCosts?: () => void;
}) {
  const { site } = useFrame();
  const navigate = useNavigate();
  const presets = usePresets();
  const tune = useTune(site.id);
  const running = useRuns(site.id).data?.find((r) => r.kind === "tune" && r.state === "running");
  const putBack = m.picked.filter((d) => d.tuning);
  const unmet = m.unmet.length;
  return (
    <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-2 border-b px-4 py-2">
      <Button look={unmet > 0 ? "next" : "plain"} className="h-9" disabled={unmet === 0} onClick={preview}>
        {unmet === 0 ? "Nothing to send" : `Preview ${unmet} ${unmet === 1 ? "camera" : "cameras"}`}
      </Button>
      <PresetMenu
        presets={presets.data ?? []}
        count={m.picked.length}
        use={m.layPreset}
        plan={() => openSheet("plan")}
        books={() => openSheet("presets")}
      />
      <Button onClick={m.layNearest} disabled={m.reckoning} title="The settings nearest to the present ones that all targets take">
        Nearest plan
      </Button>
      <OverlayMenu lay={(overlay) => m.lay(m.picked.map((device) => ({ device, wants: { overlay } })))} />
      <Button look="quiet" className="px-2" aria-label="Undo" title="Undo (Ctrl Z)" disabled={!m.canUndo} onClick={m.undo}>
        <Undo2 size={16} />
      </Button>
      <Button look="quiet" className="px-2" aria-label="Redo" title="Redo (Ctrl Y)" disabled={!m.canRedo} onClick={m.redo}>
        <Redo2 size={16} />
      </Button>
      {putBack.length > 0 && (
        <Button
          look="quiet"
          disabled={tune.isPending || !!running}
          onClick={() => tune.mutate({ devices: putBack.map((d) => d.id), undo: true }, { onError: say })}
        >
          <RotateCcw size={14} /> Put back {putBack.length}
        </Button>
      )}
      <span className="grow" />
      <Button look="quiet" onClick={() => navigate(`/sites/${site.id}/multicast`)} title="What the groups of the streams really carry">
        Multicast
      </Button>
      <Button look="quiet" onClick={() => openSheet("targets")}>
        Targets
      </Button>
      {showCosts && (
        <Button look="quiet" onClick={showCosts}>
          What it costs
        </Button>
      )}
    </div>
  );
}

function PresetMenu({
  presets,
  count,
  use,
  plan,
  books,
}: {
  presets: Preset[];
  count: number;
  use: (p: Preset) => void;
  plan: () => void;
  books: () => void;
}) {
  const item = "cursor-pointer rounded-sm px-3 py-1.5 outline-none data-highlighted:bg-well";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="inline-flex h-8 items-center gap-1.5 rounded-md border bg-sheet px-3 hover:bg-well">
        Preset on {count} {count === 1 ? "camera" : "cameras"} <ChevronDown size={14} className="text-soft" />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          onCloseAutoFocus={toGrid}
          className="z-50 max-h-[70vh] w-80 overflow-auto rounded-md border bg-sheet p-1 shadow-xl"
        >
          {presets.map((p) => (
            <DropdownMenu.Item key={`${p.book} ${p.name}`} className={item} onSelect={() => use(p)}>
              <span className="block font-medium">{p.name}</span>
              <span className="block text-small text-soft">{p.note || p.book}</span>
            </DropdownMenu.Item>
          ))}
          <DropdownMenu.Separator className="my-1 border-t" />
          <DropdownMenu.Item className={item} onSelect={plan}>
            Plan for the site, a model, a selection …
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={books}>
            Bring and send presets …
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** After a choice the keys belong to the matrix again. */
const toGrid = (e: Event) => {
  e.preventDefault();
  document.querySelector<HTMLElement>("[role=grid]")?.focus();
};

const overlays = [
  ["Name and time", "name, time"],
  ["Name", "name"],
  ["Time", "time"],
  ["No text", "none"],
] as const;

/** The text in the pictures of what is selected. */
function OverlayMenu({ lay }: { lay: (overlay: string) => void }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="inline-flex h-8 items-center gap-1.5 rounded-md px-2 text-soft hover:bg-well hover:text-ink">
        Text <ChevronDown size={14} />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          onCloseAutoFocus={toGrid}
          className="z-50 rounded-md border bg-sheet p-1 shadow-xl"
        >
          <DropdownMenu.Label className="px-3 py-1 text-small text-soft">Drawn into the picture</DropdownMenu.Label>
          {overlays.map(([name, text]) => (
            <DropdownMenu.Item
              key={name}
              className="cursor-pointer rounded-sm px-3 py-1.5 outline-none data-highlighted:bg-well"
              onSelect={() => lay(text)}
            >
              {name}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
