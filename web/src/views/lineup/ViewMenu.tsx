import { ListFilter, X } from "lucide-react";
import { Popover } from "radix-ui";
import { useMemo, useState } from "react";
import type { Device } from "@/api/client";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import {
  choices,
  type Column,
  columnNames,
  type Facet,
  facetNames,
  facets,
  type GroupBy,
  groupNames,
  groups,
  narrowed,
  plainView,
  type View,
} from "./view";
import { useKeptViews } from "./useView";

/** Which cameras the line-up shows, in which groups, with which columns; and the views that were kept. */
export function ViewMenu({ devices, view, setView }: { devices: Device[]; view: View; setView: (v: View) => void }) {
  const n = narrowed(view);
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <Button aria-label={n > 0 ? `Filter and groups, ${n} chosen` : "Filter and groups"} title="Filter, groups, columns">
          <ListFilter size={15} /> {n > 0 && <span className="num">{n}</span>}
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          collisionPadding={8}
          aria-label="Filter and groups"
          className="z-50 flex max-h-[min(80vh,var(--radix-popover-content-available-height))] w-[600px] max-w-[94vw] flex-col gap-3
            overflow-auto rounded-md border bg-sheet p-3 shadow-xl"
        >
          <Facets devices={devices} view={view} setView={setView} />
          <label className="flex items-center gap-2">
            <span className="text-soft">Grouped by</span>
            <select
              aria-label="Grouped by"
              className="h-8 grow rounded-md border bg-sheet px-2"
              value={view.group}
              onChange={(e) => setView({ ...view, group: e.target.value as GroupBy })}
            >
              {groups.map((g) => (
                <option key={g} value={g}>
                  {groupNames[g]}
                </option>
              ))}
            </select>
          </label>
          <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
            <legend className="mb-1 text-small text-soft">Columns</legend>
            {(Object.keys(columnNames) as Column[]).map((c) => (
              <span key={c} className="flex items-center gap-1.5">
                <Check
                  label={columnNames[c]}
                  checked={view.columns.includes(c)}
                  onChange={() => setView({ ...view, columns: toggled(view.columns, c) })}
                />
                {columnNames[c]}
              </span>
            ))}
          </fieldset>
          <Kept view={view} setView={setView} />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

const toggled = <T,>(list: T[], x: T) => (list.includes(x) ? list.filter((y) => y !== x) : [...list, x]);

/** What can be narrowed: each value with how many cameras have it. */
function Facets({ devices, view, setView }: { devices: Device[]; view: View; setView: (v: View) => void }) {
  const all = useMemo(() => choices(devices), [devices]);
  const set = (f: Facet, value: string) => setView({ ...view, only: { ...view.only, [f]: toggled(view.only[f] ?? [], value) } });
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      {facets
        .filter((f) => all[f].length > 1 || view.only[f]?.length || (f === "finding" && all[f].length > 0))
        .map((f) => (
          <fieldset key={f}>
            <legend className="text-small text-soft">{facetNames[f]}</legend>
            <ul className="max-h-40 overflow-auto">
              {all[f].map(({ value, count }) => (
                <li key={value} className="flex min-h-7 items-center gap-2">
                  <Check
                    label={`${facetNames[f]}: ${value}`}
                    checked={view.only[f]?.includes(value) ?? false}
                    onChange={() => set(f, value)}
                  />
                  <span className="min-w-0 grow truncate">{value}</span>
                  <span className="num text-soft">{count}</span>
                </li>
              ))}
            </ul>
          </fieldset>
        ))}
    </div>
  );
}

/** The views that this browser has kept, and keeping the present one. */
function Kept({ view, setView }: { view: View; setView: (v: View) => void }) {
  const { kept, keep, drop } = useKeptViews();
  const [name, setName] = useState("");
  return (
    <div className="border-t pt-2">
      <ul>
        {kept.map((k) => (
          <li key={k.name} className="flex items-center">
            <Button look="quiet" className="h-7 grow justify-start" onClick={() => setView(k.view)}>
              {k.name}
            </Button>
            <Button look="quiet" className="h-7" aria-label={`Drop the view ${k.name}`} onClick={() => drop(k.name)}>
              <X size={13} />
            </Button>
          </li>
        ))}
      </ul>
      <form
        className="flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (!name.trim()) return;
          keep(name.trim(), view);
          setName("");
        }}
      >
        <input
          aria-label="Name of the view"
          placeholder="Keep this view as …"
          className="h-8 min-w-0 grow rounded-md border bg-sheet px-2"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Button type="submit" disabled={!name.trim()}>
          Keep
        </Button>
        <Button look="quiet" onClick={() => setView(plainView)}>
          Show all
        </Button>
      </form>
    </div>
  );
}
