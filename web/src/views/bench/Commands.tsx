import { useState } from "react";
import type { Device, DeviceCommand } from "@/api/client";
import { useCommands, useSendCommand } from "@/api/commands";
import { useEvidence, useMay } from "@/api/queries";
import { Button } from "@/parts/Button";
import { useFrame } from "@/parts/useFrame";
import { CommandSheet } from "./CommandSheet";

/** The commands of a device: asked for anew when something has become known of it. */
const useOf = (d: Device) => useCommands(d.id, useEvidence(d.id).data?.length).data ?? [];

/** What the device can be told on its maker's own page, and what was. */
export function Commands({ device: d }: { device: Device }) {
  const { site, devices } = useFrame();
  const may = useMay();
  const list = useOf(d);
  const [chosen, setChosen] = useState<DeviceCommand | null>(null);
  const send = useSendCommand(site.id);
  if (list.length === 0) return null;
  return (
    <section aria-label="On its maker's page" className="border-t px-4 py-3 text-small">
      <h3 className="mb-1 text-soft">On its maker’s page</h3>
      {list.map((c) => (
        <div key={c.name} data-command={c.name} className="flex items-center gap-2 py-1">
          <span className="min-w-0 grow">
            {c.name}
            {c.stands && (
              <span className="block text-soft">
                {c.stands.after || "begun"} (before: {c.stands.before})
              </span>
            )}
            {c.wrong && <span className="block text-stuck">{c.wrong.problem}</span>}
          </span>
          {may("work") && c.stands && (
            <Button className="h-7" disabled={send.isPending} onClick={() => send.mutate({ devices: [d.id], command: c.name, undo: true })}>
              Undo
            </Button>
          )}
          {may("work") && c.book && (
            <Button className="h-7" onClick={() => setChosen(c)}>
              Set…
            </Button>
          )}
        </div>
      ))}
      {chosen && (
        <CommandSheet
          site={site.id}
          device={d}
          devices={devices}
          command={list.find((c) => c.name === chosen.name) ?? chosen}
          onClose={() => setChosen(null)}
        />
      )}
    </section>
  );
}

/** The commands that mend what is the matter with the device, as buttons. */
export function CommandButtons({ device: d }: { device: Device }) {
  const { site, devices } = useFrame();
  const may = useMay();
  const list = useOf(d).filter((c) => c.for);
  const [chosen, setChosen] = useState<[DeviceCommand, Record<string, string>] | null>(null);
  if (list.length === 0 || !may("work")) return null;
  return (
    <section aria-label="What its maker's page can mend" className="mx-4 mb-3 space-y-2 border-l-4 border-brass bg-paper px-3 py-2.5">
      {list.map((c) =>
        c.for!.map((f) => (
          <div key={`${c.name} ${f.words}`} className="flex items-center gap-3">
            <p className="min-w-0 grow">
              Its maker’s page can mend this. <span className="text-soft">{c.does}</span>
            </p>
            <Button onClick={() => setChosen([c, f.values])}>Set {f.words}</Button>
          </div>
        )),
      )}
      {chosen && (
        <CommandSheet site={site.id} device={d} devices={devices} command={chosen[0]} values={chosen[1]} onClose={() => setChosen(null)} />
      )}
    </section>
  );
}
