import { useState } from "react";
import type { Handover } from "@/api/client";
import { useAttestItem } from "@/api/handover";
import { useMay } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { useFrame } from "@/parts/useFrame";
import { ChecklistSheet } from "./ChecklistSheet";

/** What is gone through before a site is handed over: ticked by evidence, or by a person who attests it. */
export function Checklist({ list }: { list: Handover["checklist"] }) {
  const { site } = useFrame();
  const may = useMay();
  const attest = useAttestItem(site.id);
  const [changing, setChanging] = useState(false);
  return (
    <section aria-label="Checklist">
      <div className="flex items-end justify-between border-b pb-1">
        <h2 className="text-lead font-semibold">{list.name}</h2>
        {may("arrange") && (
          <Button look="quiet" className="h-7" onClick={() => setChanging(true)}>
            Change the list
          </Button>
        )}
      </div>
      <ul>
        {list.items.map((i) => (
          <li key={i.id} data-item={i.id} className="flex min-h-9 items-center gap-3 border-b py-1">
            {i.ticks || !may("work") ? (
              <span aria-hidden className={`grid size-4 shrink-0 place-items-center ${i.done ? "text-open" : "text-soft"}`}>
                {i.done ? "✓" : "○"}
              </span>
            ) : (
              <Check label={i.title} checked={i.done} onChange={() => attest.mutate({ item: i.id, undo: i.done })} />
            )}
            <span className="min-w-0 grow break-words">{i.title}</span>
            <span className={`text-small ${i.done ? "text-open" : "text-soft"}`}>
              {i.attested ? `${i.attested.by}, ${new Date(i.attested.at).toLocaleDateString()}` : i.done ? "measured" : ""}
              {!i.done && (i.ticks ? "ticks by itself" : "to attest")}
            </span>
          </li>
        ))}
      </ul>
      {changing && <ChecklistSheet site={site.id} list={list} onClose={() => setChanging(false)} />}
    </section>
  );
}
