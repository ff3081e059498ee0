import type { Device, Target } from "@/api/client";
import { usePlannedSlots } from "@/api/targets";
import { Button } from "@/parts/Button";
import { intoText, leftText } from "@/parts/patch";
import { cellOf, type Fittings, type filling } from "./placing";
import { useDelayed } from "@/parts/useDelayed";

/** With more placements than these the slots are not shown before; they are planned all the same. */
const mostPlanned = 500;
const none: Fill["placements"] = [];

type Fill = ReturnType<typeof filling>;

/** What is selected in the matrix, and what Enter and Delete do with it. */
export function MatrixBar({
  site,
  devices,
  targets,
  fittings,
  fill,
  standing,
  busy,
  onPut,
  onClear,
}: {
  site: string;
  devices: Device[];
  targets: Target[];
  fittings: Fittings;
  fill: Fill;
  standing: number;
  busy: boolean;
  onPut: () => void;
  onClear: () => void;
}) {
  const asked = useDelayed(fill.placements.length <= mostPlanned ? fill.placements : none, 250);
  const planned = usePlannedSlots(site, asked);
  if (devices.length === 0 || targets.length === 0) return null;
  const single = devices.length === 1 && targets.length === 1;
  const slots = planned.data?.slots ?? [];
  const left = planned.data?.left ?? [];
  const goes = fill.placements.length - left.length;
  const into = slots.length > 0 ? `${intoText(slots)}.` : "";
  const cameras = devices.length === 1 ? devices[0]!.name : `${devices.length} cameras`;
  const what = `${cameras} on ${targets.length === 1 ? targets[0]!.name : `${targets.length} targets`}`;
  return (
    <div className="flex min-h-14 flex-wrap items-center gap-x-4 gap-y-1 border-t-2 border-t-ink bg-sheet px-4 py-2">
      <p className="min-w-0 grow" aria-live="polite">
        <span className="font-semibold">{what}.</span>{" "}
        <span className="text-soft">
          {single && (fill.placements.length === 0 || !into) && cellOf(devices[0]!, targets[0]!, new Map()).state !== "free" ? "" : into}
          {single && ` ${cellOf(devices[0]!, targets[0]!, fittings).says}`}
          {!single && standing > 0 && ` ${standing} stand already.`}
        </span>
        {!single && fill.left.length > 0 && (
          <span role="status" className="block text-small text-stuck">
            {fill.left.length === 1 ? `${fill.left[0]!.device.name} is left out. ` : `${fill.left.length} are left out. `}
            {fill.left[0]!.device.name} on {fill.left[0]!.target.name}: {fill.left[0]!.why}.
          </span>
        )}
        {left.length > 0 && (
          <span role="status" className="block text-small text-stuck">
            {leftText(left)}
          </span>
        )}
      </p>
      {standing > 0 && (
        <Button look="quiet" onClick={onClear}>
          Take {standing === 1 ? "it" : `${standing}`} off <kbd className="ml-1 text-soft">Del</kbd>
        </Button>
      )}
      {goes > 0 ? (
        <Button look="next" disabled={busy} onClick={onPut}>
          {fill.tune ? "Tune and place" : "Place"} {goes === 1 ? "it" : goes} <kbd className="ml-1">Enter</kbd>
        </Button>
      ) : (
        single &&
        standing > 0 && (
          <Button onClick={onPut}>
            Show it <kbd className="ml-1 text-soft">Enter</kbd>
          </Button>
        )
      )}
    </div>
  );
}
