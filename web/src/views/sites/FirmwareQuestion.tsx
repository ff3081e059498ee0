import { useRef, useState } from "react";
import { Link } from "react-router";
import type { FirmwareCount, Site } from "@/api/client";
import { useFirmware } from "@/api/queries";
import { Copy } from "@/parts/Copy";
import { SearchField } from "@/parts/SearchField";
import { Sheet } from "@/parts/Sheet";
import { Trouble } from "@/parts/Trouble";
import { asTable, ofModels } from "./firmware";

/** Answers which versions of firmware run where, on all sites: by model, with the sites that have each. */
export function FirmwareQuestion({ sites, onClose }: { sites: Site[]; onClose: () => void }) {
  const firmware = useFirmware();
  const [text, setText] = useState("");
  const field = useRef<HTMLInputElement>(null);
  const models = ofModels(firmware.data ?? [], text);
  const nameOf = (id: string) => sites.find((s) => s.id === id)?.name ?? "";
  return (
    <Sheet title="Firmware on all sites" open onOpenChange={(o) => !o && onClose()} wide>
      <Trouble error={firmware.error} />
      {firmware.data?.length === 0 && (
        <p className="border-y py-8 text-center text-soft">No device has told its firmware yet. It does when it is signed in to.</p>
      )}
      {!!firmware.data?.length && (
        <>
          <div className="mb-3 flex flex-wrap items-center gap-3">
            <SearchField
              field={field}
              text={text}
              setText={setText}
              label="Search the firmware"
              placeholder="Maker, model or version"
              className="w-64"
            />
            <span className="grow" />
            <Copy text={() => Promise.resolve(asTable(models, nameOf))} label="Copy as a table" />
          </div>
          {models.length === 0 && <p className="border-y py-8 text-center text-soft">Nothing fits “{text}”.</p>}
          <ul className="max-h-[60vh] overflow-y-auto border-t">
            {models.map((m) => (
              <li key={`${m.maker} ${m.model}`} className="border-b py-2">
                <h3 className="flex gap-3 font-semibold">
                  {m.maker} {m.model}
                  {m.versions.length > 1 && <span className="text-small font-normal text-brass-text">{m.versions.length} versions</span>}
                </h3>
                <ul>
                  {m.versions.map((v) => (
                    <li key={v.version} className="grid grid-cols-[8rem_5rem_1fr] items-baseline gap-x-3 py-0.5">
                      <span className="mono">{v.version || "not told"}</span>
                      <span className="num text-right">{v.devices}</span>
                      <Where counts={v.counts} version={v.version} nameOf={nameOf} />
                    </li>
                  ))}
                </ul>
              </li>
            ))}
          </ul>
        </>
      )}
    </Sheet>
  );
}

/** The sites that have a version, each a way to the cameras there that run it. */
function Where({ counts, version, nameOf }: { counts: FirmwareCount[]; version: string; nameOf: (id: string) => string }) {
  return (
    <span className="flex flex-wrap gap-x-3 text-small">
      {counts.map((c) => (
        <Link key={c.site} to={`/sites/${c.site}?text=${encodeURIComponent(`${c.model} ${version}`.trim())}`} className="underline">
          {nameOf(c.site)} {c.devices}
        </Link>
      ))}
    </span>
  );
}
