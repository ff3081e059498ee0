import type { KeyboardEvent, PointerEvent } from "react";
import type { Device } from "@/api/client";
import { Check } from "@/parts/Check";
import { Socket } from "@/parts/Jack";
import { stillOf } from "@/parts/measures";
import { channelHeight } from "@/parts/patch";
import { Still } from "@/parts/Still";

type Props = {
  device: Device;
  index: number;
  lit: boolean;
  alone: boolean;
  picked: boolean;
  /** How many more are picked besides it. */
  more: number;
  onPick: () => void;
  onAlone: () => void;
  onTake: (e: PointerEvent) => void;
  onTakeByKey: () => void;
  onStep: (e: KeyboardEvent, way: 1 | -1) => void;
};

/** One channel at the left of the patch bench. */
export function PatchChannel({ device: d, index, lit, alone, picked, more, ...on }: Props) {
  return (
    <li
      className={`absolute right-0 left-0 flex items-center gap-2 border-b pr-1 pl-3 ${lit ? "bg-well" : ""}`}
      style={{ top: index * channelHeight, height: channelHeight }}
    >
      <Check label={`Pick ${d.name}`} checked={picked} onChange={on.onPick} />
      <Still src={stillOf(d)} name={d.name} className="h-7 w-12" />
      <button
        type="button"
        className="min-w-0 grow truncate text-left"
        aria-pressed={alone}
        title="Show its cords alone"
        onClick={on.onAlone}
      >
        {d.name} <span className="mono text-small text-soft">{d.via ? `channel ${d.via.channel}` : d.address}</span>
      </button>
      <span className="num text-small text-soft" title="targets that it stands on">
        {d.placements.length || ""}
      </span>
      <button
        type="button"
        data-channel={d.id}
        aria-label={`Take the plug of ${d.name}${more > 0 ? ` and ${more} more` : ""}`}
        className="grid size-8 cursor-grab touch-none place-items-center rounded-full hover:bg-well"
        onPointerDown={(e) => {
          if (e.button !== 0) return;
          e.preventDefault();
          on.onTake(e);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter" || e.key === "t" || e.key === "T") {
            e.preventDefault();
            on.onTakeByKey();
          }
          if (e.key === "ArrowDown") on.onStep(e, 1);
          if (e.key === "ArrowUp") on.onStep(e, -1);
        }}
      >
        <Socket is={d.placements.length > 0 ? "used" : "free"} />
      </button>
    </li>
  );
}
