import { useBringPresets, useDropPresets } from "@/api/actions";
import type { Preset } from "@/api/client";
import { Button } from "@/parts/Button";
import { FileButton } from "@/parts/FileButton";
import { Sheet } from "@/parts/Sheet";
import { Foot } from "@/parts/Foot";

/** Books of presets: brought as files, and sent on as files. */
export function PresetsSheet({ open, onOpenChange, presets }: { open: boolean; onOpenChange: (open: boolean) => void; presets: Preset[] }) {
  const bring = useBringPresets();
  const drop = useDropPresets();
  const books = new Map(presets.map((p) => [p.book_id ?? "shipped", p.book]));
  return (
    <Sheet title="Presets" open={open} onOpenChange={onOpenChange} wide>
      {[...books].map(([id, name]) => (
        <section key={id} className="mb-4">
          <h3 className="mb-1 flex items-center gap-3 font-semibold">
            {name}
            <a className="text-small font-normal underline" href={`/api/presets/${id}/file`} download>
              as a file
            </a>
            {id !== "shipped" && (
              <Button look="quiet" className="h-6 px-2 text-small" onClick={() => drop.mutate(id)}>
                Remove
              </Button>
            )}
          </h3>
          <ul className="divide-y border-y">
            {presets
              .filter((p) => (p.book_id ?? "shipped") === id)
              .map((p) => (
                <li key={p.name} className="grid grid-cols-[9rem_1fr] gap-x-3 py-1.5 max-sm:grid-cols-1">
                  <span className="font-medium">{p.name}</span>
                  <span className="min-w-0">
                    {Object.entries(p.plan).map(([part, text]) => (
                      <span key={part} className="mono mr-4 inline-block text-small">
                        <span className="text-soft">{part}</span> {text}
                      </span>
                    ))}
                  </span>
                </li>
              ))}
          </ul>
        </section>
      ))}
      <Foot error={bring.error ?? drop.error}>
        <FileButton name="Preset book file" accept=".yaml,.yml" onFile={async (f) => bring.mutate(await f.text())}>
          Bring a book of presets
        </FileButton>
      </Foot>
    </Sheet>
  );
}
