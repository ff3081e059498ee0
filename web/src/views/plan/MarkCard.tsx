import { Link } from "react-router";
import type { Device } from "@/api/client";
import type { Mark } from "@/api/siteplans";
import { Button } from "@/parts/Button";
import { LatchChain } from "@/parts/LatchChain";
import { stillOf } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { useFrame } from "@/parts/useFrame";

/** The camera that is chosen on a plan: what it sees, what it waits for, which way it looks, and the way to its bench. */
export function MarkCard({
  device: d,
  mark: m,
  onChange,
  onTakeOff,
}: {
  device: Device;
  mark: Mark;
  onChange: (m: Mark) => void;
  onTakeOff: () => void;
}) {
  const { site } = useFrame();
  return (
    <section
      aria-label={d.name}
      className="absolute bottom-3 left-3 flex w-[min(560px,calc(100%-24px))] gap-3 rounded-md border bg-sheet p-3 shadow-xl
        max-sm:flex-col"
      onPointerDown={(e) => e.stopPropagation()}
    >
      <Still src={stillOf(d)} name={d.name} className="h-24 w-40" />
      <div className="min-w-0 grow space-y-1">
        <p className="truncate font-semibold">
          {d.name} <span className="mono text-small font-normal text-soft">{d.via ? `channel ${d.via.channel}` : d.address}</span>
        </p>
        <LatchChain latches={d.latches} />
        <p className="line-clamp-2 text-small text-soft">{d.next.action === "none" ? "Every latch is open." : d.next.reason}</p>
        <div className="flex flex-wrap items-center gap-x-3 gap-y-1 text-small text-soft">
          <label className="flex items-center gap-2">
            Looks
            <input
              type="range"
              min={0}
              max={345}
              step={15}
              className="w-28 accent-ink"
              value={m.direction ?? 0}
              onChange={(e) => onChange({ ...m, direction: Number(e.target.value) })}
            />
            <span className="num w-9">{m.direction === undefined ? "?" : `${Math.round(m.direction)}°`}</span>
          </label>
          <label className="flex items-center gap-1">
            as wide as
            <select
              className="h-7 rounded-md border bg-sheet px-1 text-ink"
              value={m.view}
              onChange={(e) => onChange({ ...m, view: Number(e.target.value), direction: m.direction ?? 0 })}
            >
              {[...new Set([30, 50, 70, 90, 110, 180, 360, m.view ?? 70])]
                .sort((a, b) => a - b)
                .map((v) => (
                  <option key={v} value={v}>
                    {v}°
                  </option>
                ))}
            </select>
          </label>
          <Link className="text-ink underline" to={`/sites/${site.id}?device=${d.id}`}>
            Its bench
          </Link>
          <Button look="quiet" className="h-7" onClick={onTakeOff}>
            Take it off the plan
          </Button>
        </div>
      </div>
    </section>
  );
}
