import type { ReactNode } from "react";
import type { Left } from "@/api/client";
import { Trouble } from "./Trouble";

/**
 * The end of a sheet: its buttons, which stay in sight while the rest scrolls, and above them why they did not work and what they
 * leave out.
 */
export function Foot({ error, left, children }: { error?: unknown; left?: Left[]; children: ReactNode }) {
  return (
    <div className="sticky bottom-[-16px] z-10 -mx-4 mt-3 -mb-4 space-y-2 border-t bg-sheet px-4 py-3">
      <Trouble error={error} />
      <LeftOut left={left} />
      <div className="flex flex-wrap items-center justify-end gap-2">{children}</div>
    </div>
  );
}

/** The devices that are left out, each reason once. */
export function LeftOut({ left }: { left?: Left[] }) {
  if (!left?.length) return null;
  const causes = new Map<string, Left[]>();
  for (const l of left) causes.set(l.cause, [...(causes.get(l.cause) ?? []), l]);
  return (
    <div role="status" className="max-h-32 overflow-auto border-l-4 border-brass bg-well px-3 py-2 text-small">
      {[...causes.values()].map((of) => (
        <p key={of[0]!.cause}>
          <strong>{of.length === 1 ? of[0]!.name : `${of.length} devices`}</strong> will be left out: {of[0]!.reason} {of[0]!.fix}
          {of.length > 1 && <span className="text-soft"> They are {of.map((l) => l.name).join(", ")}.</span>}
        </p>
      ))}
    </div>
  );
}
