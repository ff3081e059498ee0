import { DropdownMenu } from "radix-ui";
import type { Target } from "@/api/client";
import { usePlace } from "@/api/targets";
import { Button } from "@/parts/Button";
import type { Row } from "@/parts/patch";
import { copied } from "./placing";

/** Puts what stands on a target onto another one of its kind: into the slots of the same name where they are free there. */
export function CopyTo({ site, target, rows, targets }: { site: string; target: Target; rows: Row[]; targets: Target[] }) {
  const place = usePlace(site);
  const others = targets.filter((t) => t.id !== target.id && t.kind === target.kind && t.is === target.is);
  if (others.length === 0 || !rows.some((r) => r.device)) return null;
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button disabled={place.isPending}>Put the same on …</Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={4} className="z-50 min-w-56 rounded-md border bg-sheet p-1 shadow-xl">
          {others.map((to) => {
            const placements = copied(rows, to);
            return (
              <DropdownMenu.Item
                key={to.id}
                disabled={placements.length === 0}
                className="flex min-h-9 cursor-pointer items-center justify-between gap-4 rounded-sm px-3 outline-none
                  data-disabled:cursor-default data-disabled:text-soft data-highlighted:bg-well"
                onSelect={() => place.mutate({ placements, tune: false, name: to.name })}
              >
                {to.name}
                <span className="text-small text-soft">
                  {placements.length === 0 ? "has them all" : placements.length === 1 ? "1 camera" : `${placements.length} cameras`}
                </span>
              </DropdownMenu.Item>
            );
          })}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
