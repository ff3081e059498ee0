import { Notch } from "./LatchChain";

const notches = { confirmed: "open", waiting: "waiting", stale: "stale", broken: "stuck" } as const;

/** How a placement stands, by the shapes of the latches. */
export function StateSign({ state }: { state: keyof typeof notches }) {
  return (
    <svg width="12" height="14" className="shrink-0" aria-hidden>
      <Notch state={notches[state]} />
    </svg>
  );
}
