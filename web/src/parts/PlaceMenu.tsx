import { Popover } from "radix-ui";
import { useState } from "react";
import { Link } from "react-router";
import type { Device, Fitting } from "@/api/client";
import { useFittings, useTargets } from "@/api/queries";
import { usePlace, usePlannedSlots } from "@/api/targets";
import { Button } from "./Button";
import { Check } from "./Check";
import { PlugSign } from "./Jack";
import { intoText, leftText, reasonsText, worstOf } from "./patch";
import { Trouble } from "./Trouble";

/** Places cameras on targets: on the only one at once, else on those that are ticked, several at a time. */
export function PlaceMenu({
  site,
  cameras,
  next,
  busy,
  brief,
  onDone,
}: {
  site: string;
  cameras: Device[];
  next?: boolean;
  busy?: boolean;
  /** On the camera's own bench its name need not be said. */
  brief?: boolean;
  onDone?: () => void;
}) {
  const targets = useTargets(site).data ?? [];
  const place = usePlace(site);
  const [open, setOpen] = useState(false);
  const [ticked, setTicked] = useState<string[]>([]);
  const fittings = useFittings(
    site,
    cameras.map((d) => d.id),
    open,
  );
  const placementsOn = (ids: string[]) => ids.flatMap((target) => cameras.map((d) => ({ device: d.id, target })));
  const planned = usePlannedSlots(site, open ? placementsOn(ticked) : []);
  const left = planned.data?.left ?? [];
  const look = next ? "next" : "plain";
  const text = brief ? "Place on" : `Place ${cameras.length === 1 ? cameras[0]!.name : `${cameras.length} cameras`} on`;
  const free = targets.filter((t) => !cameras.every((d) => d.placements.some((p) => p.target === t.id)));
  if (targets.length === 0)
    return (
      <span className="text-soft">
        No recorder is signed in to yet: open its latches, or{" "}
        <Link className="underline" to={`/sites/${site}/patch`}>
          add another target
        </Link>
        .
      </span>
    );
  const put = (ids: string[]) => {
    const all = fittings.data ?? new Map();
    const placements = placementsOn(ids);
    const tune = ids.some((t) => worstOf(cameras, t, all) === "after_tuning");
    place.mutate(
      { placements, tune, name: ids.length === 1 ? targets.find((t) => t.id === ids[0])?.name : undefined },
      { onSuccess: onDone },
    );
    setOpen(false);
    setTicked([]);
  };
  if (targets.length === 1)
    return (
      <Button look={look} disabled={busy || free.length === 0} onClick={() => put([targets[0]!.id])}>
        {text} {targets[0]!.name}
      </Button>
    );
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <Button look={look} disabled={busy || free.length === 0}>
          {text} …
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          collisionPadding={8}
          className="z-50 flex max-h-[min(70vh,var(--radix-popover-content-available-height))] w-96 max-w-[92vw] flex-col rounded-md
            border bg-sheet p-2 shadow-xl"
          aria-label="Targets to place on"
        >
          <ul className="min-h-0 overflow-auto">
            {free.map((t) => {
              const verdict = worstOf(cameras, t.id, fittings.data ?? new Map());
              const why = verdict === "fits" ? t.is : whyNot(cameras, t.id, fittings.data ?? new Map(), verdict);
              const on = ticked.includes(t.id);
              return (
                <li key={t.id} className="flex min-h-9 items-center gap-2 py-1">
                  <Check
                    label={`Place on ${t.name}`}
                    checked={on}
                    onChange={() => setTicked(on ? ticked.filter((x) => x !== t.id) : [...ticked, t.id])}
                  />
                  <PlugSign verdict={verdict} />
                  <span className="min-w-0 grow">
                    {t.name}
                    <span className="block text-small text-soft">{why}</span>
                    {on && (
                      <span className="block text-small">{intoText(planned.data?.slots?.filter((s) => s.target === t.id) ?? [])}</span>
                    )}
                  </span>
                </li>
              );
            })}
          </ul>
          {left.length > 0 && (
            <p role="status" className="border-l-4 border-stuck bg-well px-2 py-1 text-small">
              {leftText(left)}
            </p>
          )}
          <Trouble error={planned.error} />
          <div className="mt-1 flex justify-end border-t pt-2">
            <Button look="next" disabled={ticked.length === 0} onClick={() => put(ticked)}>
              Place on {ticked.length === 1 ? targets.find((t) => t.id === ticked[0])?.name : `${ticked.length || "no"} targets`}
            </Button>
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** Why a target does not take cameras as they are: the reasons of the first one, and how many more there are. */
function whyNot(cameras: Device[], target: string, fittings: Map<string, Fitting>, verdict: Fitting["verdict"]) {
  const those = cameras.filter((d) => fittings.get(`${d.id} ${target}`)?.verdict === verdict);
  const reasons = reasonsText(fittings.get(`${those[0]?.id} ${target}`));
  if (cameras.length === 1 || those.length === 0) return reasons;
  return `${those[0]!.name}${those.length > 1 ? ` and ${those.length - 1} more` : ""}: ${reasons}`;
}
