import { memo } from "react";
import type { Device, Target } from "@/api/client";
import { stillOf } from "@/parts/measures";
import { type Cell, cellOf, type Fittings } from "./placing";
import { Still } from "@/parts/Still";
import { StateSign } from "@/parts/StateSign";
import { PlugSign } from "@/parts/Jack";

export const rowHeight = 36;
export const nameWidth = 204;
export const cellWidth = 106;

/**
 * One camera of the matrix. Drawn anew only when it changes, or the cell in hand comes or goes: what is selected is one
 * rectangle over all rows.
 */
export const MatrixRow = memo(function MatrixRow({
  device: d,
  index,
  start,
  targets,
  fittings,
  at,
}: {
  device: Device;
  index: number;
  start: number;
  targets: Target[];
  fittings: Fittings;
  /** The column in hand; -1 in every other row. */
  at: number;
}) {
  return (
    <div
      role="row"
      aria-rowindex={index + 2}
      className="absolute flex border-b"
      style={{ transform: `translateY(${start}px)`, height: rowHeight }}
    >
      <div role="rowheader" className="sticky left-0 z-10 flex items-center gap-2 border-r bg-sheet px-3" style={{ width: nameWidth }}>
        <Still src={stillOf(d)} name={d.name} className="h-6 w-10 shrink-0" />
        <span className="truncate font-medium" title={`${d.name}, ${d.address}`}>
          {d.name}
        </span>
      </div>
      {targets.map((t, col) => {
        const cell = cellOf(d, t, fittings);
        return (
          <div
            key={t.id}
            id={`cell-${index}-${col}`}
            role="gridcell"
            aria-selected={col === at}
            aria-label={`${d.name} on ${t.name}: ${wordsOf(cell)}`}
            data-cell={`${index} ${col}`}
            data-state={cell.state}
            data-on={t.name}
            title={`${d.name} on ${t.name}. ${cell.says}`}
            className={`flex items-center gap-1.5 border-r bg-paper px-2
              ${cell.state === "broken" ? "text-stuck" : ""}
              ${col === at ? "outline-2 outline-offset-[-2px] outline-ink" : ""}`}
            style={{ width: cellWidth }}
          >
            <CellSign cell={cell} />
            <span className="num min-w-0 truncate text-small">{cell.state === "free" ? "" : cell.slot || "wanted"}</span>
          </div>
        );
      })}
    </div>
  );
});

const wordsOf = (c: Cell) => (c.state === "free" ? `free. ${c.says}` : `${c.slot || "wanted"}, ${c.state}. ${c.says}`);

/** How a cell stands; an empty one shows how well the plug would fit, and faintly. */
function CellSign({ cell }: { cell: Cell }) {
  if (cell.state !== "free") return <StateSign state={cell.state} />;
  if (cell.verdict === "unknown") return null;
  return (
    <span className={cell.verdict === "cannot" ? "opacity-70" : "opacity-45"}>
      <PlugSign verdict={cell.verdict} />
    </span>
  );
}
