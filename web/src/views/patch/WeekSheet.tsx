import { type KeyboardEvent, useState } from "react";
import { useChangeTarget } from "@/api/targets";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { dayNames, emptyWeek, painted, spansOf, type Week, weekOf, weekText } from "./week";

type Slot = { token: string; name: string; week?: Parameters<typeof weekOf>[0] };
type At = { day: number; hour: number };

const presetsKey = "week presets";
const everyDay = { day: 6, hour: 23 };
const readPresets = (): { name: string; spans: ReturnType<typeof spansOf> }[] => {
  try {
    const list = JSON.parse(localStorage.getItem(presetsKey) ?? "[]");
    return Array.isArray(list) ? list : [];
  } catch {
    return [];
  }
};

/** The hours of a week in which slots are recorded: painted on a grid, copied to other slots, kept as a preset. */
export function WeekSheet({
  site,
  target,
  slot,
  others,
  onClose,
}: {
  site: string;
  target: string;
  slot: Slot;
  /** The other slots that are recorded, which can get the same week. */
  others: Slot[];
  onClose: () => void;
}) {
  const [week, setWeek] = useState<Week>(() =>
    slot.week?.length ? weekOf(slot.week) : painted(emptyWeek(), { day: 0, hour: 8 }, { day: 4, hour: 17 }, true),
  );
  const [too, setToo] = useState<string[]>([]);
  const [presets, setPresets] = useState(readPresets);
  const [name, setName] = useState("");
  const change = useChangeTarget(site);
  const spans = spansOf(week);
  const keepPreset = () => {
    const list = [...presets.filter((p) => p.name !== name.trim()), { name: name.trim(), spans }];
    localStorage.setItem(presetsKey, JSON.stringify(list));
    setPresets(list);
    setName("");
  };
  const send = async () => {
    for (const token of [slot.token, ...too]) await change.mutateAsync({ target, slot: token, schedule: { mode: "week", week: spans } });
    onClose();
  };
  return (
    <Sheet title={`When ${slot.name} is recorded`} open onOpenChange={onClose} wide>
      <WeekGrid week={week} setWeek={setWeek} />
      <p className="mt-2 min-h-5 text-small text-soft">{weekText(spans) || "Never: paint some hours."}</p>
      <div className="mt-2 flex flex-wrap items-center gap-2">
        <Button onClick={() => setWeek(painted(emptyWeek(), { day: 0, hour: 0 }, everyDay, true))}>All hours</Button>
        <Button onClick={() => setWeek(emptyWeek())}>None</Button>
        <Button onClick={() => setWeek(week.map((hours) => hours.map((on) => !on)))}>The other hours</Button>
        {presets.map((p) => (
          <Button key={p.name} onClick={() => setWeek(weekOf(p.spans))}>
            {p.name}
          </Button>
        ))}
        <span className="grow" />
        <input
          aria-label="Name of the preset"
          placeholder="Keep these hours as …"
          className="h-8 w-44 rounded-md border bg-sheet px-2"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Button disabled={!name.trim() || spans.length === 0} onClick={keepPreset}>
          Keep as a preset
        </Button>
      </div>
      {others.length > 0 && (
        <fieldset className="mt-3 border-t pt-2">
          <legend className="text-small text-soft">The same hours for</legend>
          <div className="flex max-h-32 flex-wrap gap-x-4 gap-y-1 overflow-auto">
            {others.map((o) => (
              <span key={o.token} className="flex items-center gap-1.5">
                <Check
                  label={o.name}
                  checked={too.includes(o.token)}
                  onChange={() => setToo(too.includes(o.token) ? too.filter((t) => t !== o.token) : [...too, o.token])}
                />
                {o.name}
              </span>
            ))}
            <Button look="quiet" className="h-6" onClick={() => setToo(too.length === others.length ? [] : others.map((o) => o.token))}>
              {too.length === others.length ? "None of them" : "All of them"}
            </Button>
          </div>
        </fieldset>
      )}
      <Foot error={change.error}>
        <Button onClick={onClose}>Leave it</Button>
        <Button look="next" disabled={change.isPending || spans.length === 0} onClick={() => void send().catch(() => undefined)}>
          Set the week{too.length > 0 && ` of ${too.length + 1} slots`}
        </Button>
      </Foot>
    </Sheet>
  );
}

/** Seven days of 24 hours: a press or a drag paints, begun on a painted hour it clears; arrows walk, Space paints, with Shift along. */
function WeekGrid({ week, setWeek }: { week: Week; setWeek: (w: Week) => void }) {
  const [at, setAt] = useState<At>({ day: 0, hour: 8 });
  const [stroke, setStroke] = useState<{ from: At; on: boolean; before: Week } | null>(null);
  const walk = (e: KeyboardEvent) => {
    const step = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[e.key];
    if (step) {
      const to = { day: Math.max(0, Math.min(6, at.day + step[0]!)), hour: Math.max(0, Math.min(23, at.hour + step[1]!)) };
      if (e.shiftKey) setWeek(painted(week, at, to, week[at.day]![at.hour]!));
      setAt(to);
    } else if (e.key === " ") setWeek(painted(week, at, at, !week[at.day]![at.hour]));
    else return;
    e.preventDefault();
  };
  return (
    <div
      role="grid"
      data-first
      tabIndex={0}
      aria-label="Hours of the week"
      aria-activedescendant={`hour-${at.day}-${at.hour}`}
      className="grid touch-none gap-px select-none"
      style={{ gridTemplateColumns: "84px repeat(24, minmax(0, 1fr))" }}
      onKeyDown={walk}
      onPointerUp={() => setStroke(null)}
      onPointerLeave={() => setStroke(null)}
    >
      <div role="row" className="contents">
        <span role="columnheader" className="sr-only">
          Day
        </span>
        <span aria-hidden />
        {week[0]!.map((_, h) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: an hour is its index
          <span key={h} role="columnheader" className="num text-center text-tiny text-soft">
            {h % 3 === 0 ? h : ""}
          </span>
        ))}
      </div>
      {week.map((hours, day) => (
        <div role="row" key={dayNames[day]} className="contents">
          <span role="rowheader" className="flex h-7 items-center text-small text-soft">
            {dayNames[day]}
          </span>
          {hours.map((on, hour) => (
            <span
              // biome-ignore lint/suspicious/noArrayIndexKey: an hour is its index
              key={hour}
              id={`hour-${day}-${hour}`}
              role="gridcell"
              aria-label={`${dayNames[day]} ${hour} to ${hour + 1}`}
              aria-selected={on}
              data-hour={`${day} ${hour}`}
              className={`h-7 ${on ? "bg-open" : "bg-well"} ${hour % 6 === 0 ? "border-l border-l-soft" : ""}
                ${at.day === day && at.hour === hour ? "outline-2 outline-offset-[-2px] outline-ink" : ""}`}
              onPointerDown={(e) => {
                e.currentTarget.releasePointerCapture?.(e.pointerId);
                setAt({ day, hour });
                setStroke({ from: { day, hour }, on: !on, before: week });
                setWeek(painted(week, { day, hour }, { day, hour }, !on));
              }}
              onPointerEnter={() => {
                if (!stroke) return;
                setAt({ day, hour });
                setWeek(painted(stroke.before, stroke.from, { day, hour }, stroke.on));
              }}
            />
          ))}
        </div>
      ))}
    </div>
  );
}
