import { memo, type KeyboardEvent, type PointerEvent } from "react";
import type { Device } from "@/api/client";
import type { Mark } from "@/api/siteplans";
import { Notch } from "@/parts/LatchChain";
import { stateOf } from "./state";
import { wedge } from "./place";

/** How far a wedge reaches, in pixels of the window. */
const reach = 54;

/** A camera on a plan: the shape of the latch that it stands at, its name, and where it looks. */
export const PlanMark = memo(function PlanMark({
  mark: m,
  device,
  chosen,
  onDown,
  onKey,
  onChoose,
}: {
  mark: Mark;
  device: Device;
  chosen: boolean;
  onDown: (e: PointerEvent, m: Mark) => void;
  onKey: (e: KeyboardEvent, m: Mark) => void;
  onChoose: (id: string) => void;
}) {
  const state = stateOf(device);
  return (
    <button
      type="button"
      data-mark={device.name}
      data-state={state}
      aria-label={`${device.name}, ${state === "open" ? "every latch open" : state}`}
      aria-pressed={chosen}
      className="absolute size-0 touch-none outline-none"
      style={{ left: `${m.x * 100}%`, top: `${m.y * 100}%`, transform: "scale(calc(1 / var(--k)))" }}
      onPointerDown={(e) => onDown(e, m)}
      onKeyDown={(e) => onKey(e, m)}
      onFocus={() => onChoose(m.device)}
    >
      <svg className="pointer-events-none absolute overflow-visible" width="1" height="1" aria-hidden>
        <path d={wedge(m, reach)} className={`fill-brass ${chosen ? "opacity-50" : "opacity-25"}`} />
      </svg>
      <span
        className={`absolute -top-3.5 -left-3.5 grid size-7 cursor-grab place-items-center rounded-full border-2 bg-sheet shadow
          ${chosen ? "border-ink" : "border-soft"}`}
      >
        <svg width="12" height="14" aria-hidden>
          <Notch state={state} />
        </svg>
      </span>
      <span
        className={`absolute top-4 left-0 max-w-36 -translate-x-1/2 truncate rounded-sm px-1 text-tiny
          ${chosen ? "bg-ink text-paper" : "bg-sheet text-ink"}`}
      >
        {device.name}
      </span>
    </button>
  );
});
