import { useState } from "react";
import type { Device } from "@/api/client";
import { useNameAll, useNamesTried } from "@/api/actions";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { Foot } from "@/parts/Foot";
import { stillOf } from "@/parts/measures";
import { Sheet } from "@/parts/Sheet";
import { Still } from "@/parts/Still";
import { useDelayed } from "@/parts/useDelayed";
import { Field } from "@/forms/Field";

type Way = "see" | "pattern" | "list";

/** Names several cameras: by looking at their pictures, by a pattern that counts, or by a list that somebody has. */
export function NameSheet({ site, devices, onClose }: { site: string; devices: Device[]; onClose: () => void }) {
  const [way, setWay] = useState<Way>("see");
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [pattern, setPattern] = useState("");
  const [first, setFirst] = useState("1");
  const [list, setList] = useState("");
  const name = useNameAll(site);
  const body = {
    devices: devices.map((d) => d.id),
    ...(way === "see" && { names: typed }),
    ...(way === "pattern" && { pattern, first: Number(first) || 1 }),
    ...(way === "list" && { list }),
  };
  const empty = way === "see" ? Object.keys(typed).length === 0 : way === "pattern" ? !pattern.trim() : !list.trim();
  const asked = useDelayed(JSON.stringify(body), 250);
  const tried = useNamesTried(site, way === "see" || empty ? undefined : asked);
  const given = new Map(tried.data?.names.map((n) => [n.device, n.name]));
  const count = way === "see" ? Object.keys(typed).length : given.size;
  return (
    <Sheet title={`Name ${devices.length === 1 ? devices[0]!.name : `${devices.length} cameras`}`} open onOpenChange={onClose} wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (!empty) name.mutate(body, { onSuccess: onClose });
        }}
        className="space-y-3"
      >
        <Choice
          label="How to name them"
          value={way}
          onChange={setWay}
          options={[
            ["see", "By what they see"],
            ["pattern", "By a pattern"],
            ["list", "From a list"],
          ]}
        />
        {way === "pattern" && (
          <div className="grid grid-cols-[1fr_110px] gap-3">
            <Field
              label="Pattern"
              name="pattern"
              placeholder="Platform {n}"
              hint="{n} counts, {nn} with a zero before it; {last} is the last number of the address; {maker}, {model}"
              value={pattern}
              onChange={(e) => setPattern(e.target.value)}
            />
            <Field label="Begin with" name="first" inputMode="numeric" value={first} onChange={(e) => setFirst(e.target.value)} />
          </div>
        )}
        {way === "list" && (
          <label className="block">
            <span className="mb-1 block text-small text-soft">
              A name a line, in the order below; or address and name, as a spreadsheet copies them
            </span>
            <textarea
              name="list"
              rows={5}
              className="mono w-full rounded-md border bg-sheet p-2"
              value={list}
              onChange={(e) => setList(e.target.value)}
            />
          </label>
        )}
        <ul className="divide-y border-y">
          {devices.map((d) => (
            <li key={d.id} className="flex items-center gap-3 py-1.5">
              <Still src={stillOf(d)} name={d.name} className={way === "see" ? "h-18 w-32 shrink-0" : "h-9 w-16 shrink-0"} />
              <span className="w-44 min-w-0 shrink-0">
                <span className="block truncate">{d.name}</span>
                <span className="mono block truncate text-small text-soft">{d.via ? `channel ${d.via.channel}` : d.address}</span>
              </span>
              {way === "see" ? (
                <input
                  name={`name-${d.id}`}
                  aria-label={`Name of ${d.name} at ${d.address}`}
                  placeholder="What does it see?"
                  className="h-9 min-w-0 grow rounded-md border bg-sheet px-2.5"
                  value={typed[d.id] ?? (d.named ? d.name : "")}
                  onChange={(e) => setTyped({ ...typed, [d.id]: e.target.value })}
                />
              ) : (
                <span className={`min-w-0 grow truncate ${given.has(d.id) ? "font-semibold" : "text-soft"}`}>
                  {given.get(d.id) ?? "stays as it is"}
                </span>
              )}
            </li>
          ))}
        </ul>
        <Foot error={name.error ?? (way === "see" ? null : tried.error)}>
          <Button onClick={onClose}>Leave it</Button>
          <Button look="next" type="submit" disabled={empty || name.isPending || (way !== "see" && count === 0)}>
            Name {count === 1 ? "1 camera" : `${count || "no"} cameras`}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
