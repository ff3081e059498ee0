import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { Link } from "react-router";
import type { Device, Fitting, Target } from "@/api/client";
import { usePlace, useTakeOff } from "@/api/targets";
import { Button } from "@/parts/Button";
import { PlugSign } from "@/parts/Jack";
import { cordText, reasonsText } from "@/parts/patch";
import { stillOf } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { useFrame } from "@/parts/useFrame";

const words = { confirmed: "● confirmed", waiting: "◌ waiting", stale: "◐ out of date", broken: "✕ broken" } as const;

/** The patch bench as a list by camera, with the same actions: for phones, and for whoever reads rather than looks. */
export function PatchTable({ channels, targets, fittings }: { channels: Device[]; targets: Target[]; fittings: Map<string, Fitting> }) {
  const { site } = useFrame();
  const [shown, setShown] = useState(60);
  const place = usePlace(site.id);
  const takeOff = useTakeOff(site.id);
  return (
    <div className="min-h-0 grow overflow-auto">
      <ul className="divide-y">
        {channels.slice(0, shown).map((d) => (
          <li key={d.id} className="flex gap-3 px-3 py-3 sm:px-4">
            <Still src={stillOf(d)} name={d.name} className="h-14 w-24" />
            <div className="min-w-0 grow">
              <p className="font-semibold">
                <Link to={`/sites/${site.id}?device=${d.id}`}>{d.name}</Link>{" "}
                <span className="mono text-small font-normal text-soft">{d.address}</span>
              </p>
              {d.placements.length === 0 && <p className="text-soft">On no target yet.</p>}
              <ul>
                {d.placements.map((p) => {
                  const state = p.state;
                  return (
                    <li key={p.target} className="flex flex-wrap items-center gap-x-2 border-t py-1 first:border-t-0">
                      <span className="grow font-medium">{p.name}</span>
                      <span
                        className={`shrink-0 text-small
                          ${state === "confirmed" ? "text-open" : state === "broken" ? "text-stuck" : "text-soft"}`}
                      >
                        {words[state]}
                      </span>
                      <span className={`w-full text-small ${state === "broken" ? "" : "text-soft"}`}>
                        {[p.slot, state === "broken" ? cordText(p) : ""].filter(Boolean).join(": ")}
                      </span>
                      {(state === "broken" || state === "stale" || !p.slot) && (
                        <Button
                          className="h-7"
                          onClick={() =>
                            place.mutate({
                              placements: [{ device: d.id, target: p.target, slot: p.wanted || undefined, again: true }],
                              tune: (p.misfit?.length ?? 0) > 0,
                              name: p.name,
                            })
                          }
                        >
                          {p.misfit?.length
                            ? "Tune it, then place it"
                            : p.diagnosis?.cause === "wrong_picture"
                              ? "Put it right"
                              : "Place it"}
                        </Button>
                      )}
                      <Button
                        look="quiet"
                        className="h-7 max-sm:-ml-3"
                        aria-label={`Take it off ${p.name}: ${d.name}`}
                        onClick={() => takeOff.mutate({ devices: [d.id], target: p.target, name: p.name, slots: [p.token] })}
                      >
                        Take it off
                      </Button>
                    </li>
                  );
                })}
              </ul>
              <PutOn
                device={d}
                targets={targets.filter((t) => !d.placements.some((p) => p.target === t.id))}
                fittings={fittings}
                site={site.id}
              />
            </div>
          </li>
        ))}
      </ul>
      <section aria-label="Targets" className="border-t p-3 sm:px-4">
        <h2 className="mb-2 font-semibold">Targets</h2>
        <ul className="divide-y border-y">
          {targets.map((t) => (
            <li key={t.id}>
              <Link to={`/sites/${site.id}/targets/${t.id}`} className="flex min-h-10 items-center gap-2 hover:bg-well">
                <span className="grow">{t.name}</span> <span className="text-small text-soft">{t.is}</span>
              </Link>
            </li>
          ))}
        </ul>
      </section>
      {shown < channels.length && (
        <p className="p-3">
          <Button onClick={() => setShown(shown + 60)}>Show {Math.min(60, channels.length - shown)} more</Button>
        </p>
      )}
    </div>
  );
}

function PutOn({ device, targets, fittings, site }: { device: Device; targets: Target[]; fittings: Map<string, Fitting>; site: string }) {
  const place = usePlace(site);
  if (targets.length === 0) return null;
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        className="mt-1 inline-flex h-8 items-center rounded-md border bg-sheet px-3 hover:bg-well"
        aria-label={`Put it on …: ${device.name}`}
      >
        Put it on …
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="start" sideOffset={4} className="z-50 max-w-[92vw] min-w-64 rounded-md border bg-sheet p-1 shadow-xl">
          {targets.map((t) => {
            const f = fittings.get(`${device.id} ${t.id}`);
            const verdict = f?.verdict ?? "unknown";
            return (
              <DropdownMenu.Item
                key={t.id}
                disabled={verdict === "cannot"}
                className="flex min-h-9 cursor-pointer items-center gap-2 rounded-sm px-2 py-1 outline-none
                  data-disabled:cursor-default data-highlighted:bg-well"
                onSelect={() =>
                  place.mutate({ placements: [{ device: device.id, target: t.id }], tune: verdict === "after_tuning", name: t.name })
                }
              >
                <PlugSign verdict={verdict} />
                <span className="min-w-0">
                  {t.name}
                  <span className="block text-small text-soft">{verdict === "fits" ? t.is : reasonsText(f)}</span>
                </span>
              </DropdownMenu.Item>
            );
          })}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
