import { useState } from "react";
import { useSites } from "@/api/queries";
import { Check } from "@/parts/Check";

/** As many sites are shown as they are, without a line to look for one. */
const fewSites = 8;

/** Chooses the sites of a worker, and whether it opens sign-ins that are for every site. */
export function SiteChoice({
  given,
  onGiven,
  shared,
  onShared,
}: {
  given: string[];
  onGiven: (ids: string[]) => void;
  shared: boolean;
  onShared: (yes: boolean) => void;
}) {
  const sites = useSites().data ?? [];
  const [text, setText] = useState("");
  const toggle = (id: string) => onGiven(given.includes(id) ? given.filter((x) => x !== id) : [...given, id]);
  const shown = sites.filter((s) => s.name.toLowerCase().includes(text.trim().toLowerCase()));
  return (
    <>
      <fieldset>
        <legend className="mb-1 text-small text-soft">Sites whose networks it reaches</legend>
        {sites.length > fewSites && (
          <input
            aria-label="Find a site"
            placeholder={`Find among ${sites.length} sites`}
            value={text}
            onChange={(e) => setText(e.target.value)}
            className="mb-1 h-9 w-full rounded-md border bg-sheet px-2.5"
          />
        )}
        <div className="max-h-64 overflow-y-auto">
          {shown.map((s) => (
            <label key={s.id} className="flex min-h-8 items-center gap-2">
              <Check checked={given.includes(s.id)} onChange={() => toggle(s.id)} label={s.name} /> {s.name}
            </label>
          ))}
          {shown.length === 0 && <p className="text-small text-soft">No site of this name.</p>}
        </div>
      </fieldset>
      <label className="flex min-h-8 items-start gap-2 border-t pt-2">
        <Check checked={shared} onChange={() => onShared(!shared)} label="May open sign-ins that are for every site" />
        <span>
          It may open the sign-ins that are for every site
          <span className="block text-small text-soft">
            Without this it opens those of its sites alone. Leave it off where somebody else may get at the machine.
          </span>
        </span>
      </label>
    </>
  );
}
