import { PlugSign } from "@/parts/Jack";
import { Notch } from "@/parts/LatchChain";
import type { Cell } from "./placing";

const notches = { confirmed: "open", waiting: "waiting", stale: "stale", broken: "stuck" } as const;

/** How a cell of the matrix stands, by the shapes of the latches; an empty one shows how well the plug would fit, and faintly. */
export function StateSign({ cell }: { cell: Pick<Cell, "state" | "verdict"> }) {
  if (cell.state === "free")
    return cell.verdict === "unknown" ? null : (
      <span className={cell.verdict === "cannot" ? "opacity-70" : "opacity-45"}>
        <PlugSign verdict={cell.verdict} />
      </span>
    );
  return (
    <svg width="12" height="14" className="shrink-0" aria-hidden>
      <Notch state={notches[cell.state]} />
    </svg>
  );
}
