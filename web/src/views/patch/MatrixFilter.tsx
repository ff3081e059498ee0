import type { CellState } from "./placing";
import { StateSign } from "@/parts/StateSign";

const words: Record<CellState, string> = {
  broken: "broken",
  waiting: "waiting",
  stale: "out of date",
  confirmed: "confirmed",
  free: "on no target",
};

/** How the cells stand, with their numbers; pressing one shows its cameras alone. */
export function MatrixFilter({
  counts,
  all,
  only,
  onChange,
}: {
  counts: Record<CellState, number>;
  all: number;
  only: CellState | "all";
  onChange: (only: CellState | "all") => void;
}) {
  const chip = (key: CellState | "all", n: number, text: string) => (
    <button
      key={key}
      type="button"
      aria-pressed={only === key}
      disabled={n === 0 && only !== key}
      className="flex h-7 items-center gap-1.5 rounded-md px-2 hover:bg-well disabled:text-soft aria-pressed:bg-ink aria-pressed:text-paper"
      onClick={() => onChange(only === key ? "all" : key)}
    >
      {key !== "all" && key !== "free" && <StateSign state={key} />}
      <span className="num">{n}</span> {text}
    </button>
  );
  return (
    <div role="group" aria-label="Show cameras" className="flex flex-wrap items-center gap-1 border-b bg-sheet px-2 py-1">
      {chip("all", all, all === 1 ? "camera" : "cameras")}
      {(Object.keys(words) as CellState[]).map((s) => chip(s, counts[s], words[s]))}
    </div>
  );
}
