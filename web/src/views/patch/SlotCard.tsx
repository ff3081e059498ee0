import { ArrowDown, ArrowUp } from "lucide-react";
import { useState } from "react";
import type { Device, Target } from "@/api/client";
import { useAttest, useChangeTarget, useOrderList } from "@/api/targets";
import { Button } from "@/parts/Button";
import { stillOf } from "@/parts/measures";
import { cordText, endless, type Row } from "@/parts/patch";
import { Still } from "@/parts/Still";
import { EntrySheet } from "./EntrySheet";
import { Rule, ShowOn } from "./HubActions";
import { weekText } from "./week";
import { WeekSheet } from "./WeekSheet";

const modes: Record<string, string> = { always: "always", motion: "on motion", week: "by week and hour", off: "never" };

/** A slot as the sheet of hours has it. */
const slotWeek = (r: Row) => ({
  token: r.slot!.token,
  name: r.device?.name ?? r.slot!.name ?? r.slot!.label ?? r.slot!.token,
  week: r.slot!.schedule?.week,
});

type Props = { row: Row; rows: Row[]; at: number; site: string; target: Target; devices: Device[]; targets: Target[] };

/** One slot of a target: what it shows there, when it is recorded, and what can be done with it. */
export function SlotCard({ row, rows, at, site, target: t, devices, targets }: Props) {
  const change = useChangeTarget(site);
  const order = useOrderList(site);
  const attest = useAttest(site);
  const [painting, setPainting] = useState(false);
  const [copying, setCopying] = useState(false);
  const slot = row.slot!;
  const p = row.placement;
  const state = p?.state;
  const byHand = t.kind === "feed" || t.kind === "template";
  const canOrder = byHand || (t.about?.abilities?.includes("order") && slot.is !== "free");
  const shift = (way: 1 | -1) => {
    const list = rows.filter((r) => (byHand ? r.device : r.slot!.is !== "free"));
    const i = list.indexOf(row);
    const j = i + way;
    if (i < 0 || j < 0 || j >= list.length) return;
    [list[i], list[j]] = [list[j]!, list[i]!];
    if (byHand) order.mutate({ target: t.id, devices: list.map((r) => r.device!.id) });
    else change.mutate({ target: t.id, order: list.map((r) => r.slot!.token) });
  };
  const name = row.device?.name ?? slot.name;
  const setMode = (mode: string) => {
    if (mode === "week") setPainting(true);
    else change.mutate({ target: t.id, slot: slot.token, schedule: { mode: mode as "always" } });
  };
  return (
    <li className={`flex gap-3 border bg-sheet p-2 ${slot.is === "free" && !p ? "border-dashed" : ""}`}>
      {(row.device || slot.is === "used") && (
        <figure className="w-28 shrink-0">
          <Still
            src={p?.still ? `/api/stills/${p.still}` : row.device ? stillOf(row.device) : undefined}
            name={name ? `What it shows for ${name}` : slot.label || slot.token}
            className="h-16 w-28"
          />
          {row.device && <figcaption className="truncate text-tiny text-soft">{p?.still ? "its picture" : "the camera’s own"}</figcaption>}
        </figure>
      )}
      <div className="min-w-0 grow text-small">
        <p className="truncate">
          {!endless(t) && slot.label !== slot.is && <span className="text-soft">{slot.label || slot.token} </span>}
          <span className="text-[14px] font-semibold">{name}</span>
        </p>
        <p className={`line-clamp-2 ${state === "broken" ? "text-stuck" : "text-soft"}`}>
          {p ? cordText(p) : slot.why || slot.state || slot.is}
        </p>
        {slot.sizes && <p className="text-soft">{slot.sizes}</p>}
        <div className="mt-1 flex flex-wrap items-center gap-1">
          {slot.is === "blocked" && slot.can_free && (
            <Button className="h-7" onClick={() => change.mutate({ target: t.id, free: slot.token })}>
              Free it
            </Button>
          )}
          {byHand && p?.slot && !p.confirmed && (
            <Button className="h-7" onClick={() => attest.mutate({ devices: [row.device!.id], target: t.id })}>
              I have looked: it shows
            </Button>
          )}
          {t.about?.abilities?.includes("schedule") && slot.is === "used" && (
            <Records name={name} mode={slot.schedule?.mode} onMode={setMode} />
          )}
          {row.device && p && (
            <Button className="h-7" onClick={() => setCopying(true)}>
              Copy …
            </Button>
          )}
          {canOrder && (row.device || slot.is !== "free") && (
            <>
              <button
                type="button"
                aria-label={`${name || slot.label} further up`}
                className="rounded-sm p-1 text-soft hover:bg-well disabled:opacity-40"
                disabled={at === 0}
                onClick={() => shift(-1)}
              >
                <ArrowUp size={14} />
              </button>
              <button
                type="button"
                aria-label={`${name || slot.label} further down`}
                className="rounded-sm p-1 text-soft hover:bg-well"
                onClick={() => shift(1)}
              >
                <ArrowDown size={14} />
              </button>
            </>
          )}
        </div>
        {t.kind === "hub" && p?.slot && row.device && (
          <div className="mt-1 space-y-1 text-soft">
            <span className="flex flex-wrap items-center gap-1">
              Show on <ShowOn device={row.device.id} target={t} site={site} brief />
            </span>
            <Rule device={row.device.id} target={t} site={site} />
          </div>
        )}
        {slot.schedule?.mode === "week" && (
          <button type="button" className="text-left underline hover:text-ink" onClick={() => setPainting(true)}>
            {weekText(slot.schedule.week)}
          </button>
        )}
        {copying && <EntrySheet site={site} row={row} target={t} devices={devices} targets={targets} onClose={() => setCopying(false)} />}
        {painting && (
          <WeekSheet
            site={site}
            target={t.id}
            slot={slotWeek(row)}
            others={rows.filter((r) => r !== row && r.slot?.is === "used").map(slotWeek)}
            onClose={() => setPainting(false)}
          />
        )}
      </div>
    </li>
  );
}

function Records({ name, mode, onMode }: { name?: string; mode?: string; onMode: (mode: string) => void }) {
  return (
    <label className="flex items-center gap-1 text-soft">
      records
      <select
        aria-label={`When ${name} is recorded`}
        className="h-7 rounded-md border bg-sheet px-1 text-ink"
        value={mode ?? "always"}
        onChange={(e) => onMode(e.target.value)}
      >
        {Object.entries(modes).map(([k, v]) => (
          <option key={k} value={k}>
            {v}
          </option>
        ))}
      </select>
    </label>
  );
}
