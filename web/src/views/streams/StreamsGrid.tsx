import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, useEffect, useMemo, useRef, useState } from "react";
import type { Budget, Device } from "@/api/client";
import { type Range, rangeCols, rangeRows, walk } from "@/parts/grid";
import type { Column, Drafts } from "./matrix";
import { cellText, fields, pixels, planned, type Role } from "@/parts/plan";
import { StreamsHeads, StreamsTotals } from "./StreamsEdges";
import { rowHeight, StreamsRow } from "./StreamsRow";

const nameWidth = 236;
const budgetWidth = 60;
const widthOf = new Map(fields.map((f) => [f.field, f.width]));

/** What the matrix asks for; what comes of it is the view's. */
export type GridActions = {
  put: (cells: { row: number; col: number; text: string }[]) => boolean;
  fill: () => void;
  copy: () => string;
  paste: (text: string) => void;
  undo: () => void;
  redo: () => void;
};

/** The matrix: a row a camera, a group of columns a stream, each cell what is planned over what was measured. */
export function StreamsGrid({
  devices,
  columns,
  shownRoles,
  drafts,
  budgets,
  search,
  corner,
  range,
  setRange,
  actions,
}: {
  devices: Device[];
  columns: Column[];
  shownRoles: readonly Role[];
  drafts: Drafts;
  budgets: Budget[];
  search: ReactNode;
  corner: ReactNode;
  range: Range;
  setRange: (r: Range) => void;
  actions: GridActions;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  const [editing, setEditing] = useState<string | null>(null);
  const v = useVirtualizer({
    count: devices.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 3,
    initialRect: { width: 1000, height: 800 },
  });
  const template = `${nameWidth}px ${budgetWidth}px ${columns.map((c) => `${widthOf.get(c.field)}px`).join(" ")}`;
  const width = nameWidth + budgetWidth + columns.reduce((sum, c) => sum + widthOf.get(c.field)!, 0);
  const bounds = useMemo(() => new Map(budgets.map((b) => [b.model, b])), [budgets]);
  const most = useMemo(
    () => Math.max(1, ...devices.map((d) => shownRoles.reduce((sum, role) => sum + pixels(d, role, drafts.get(d.id)?.[role]), 0))),
    [devices, shownRoles, drafts],
  );
  const [top, bottom] = rangeRows(range);
  const [left, right] = rangeCols(range);

  const go = (row: number, col: number, extend: boolean) => {
    const r = Math.max(0, Math.min(devices.length - 1, row));
    const c = Math.max(0, Math.min(columns.length - 1, col));
    setRange(extend ? { ...range, toRow: r, toCol: c } : { row: r, col: c, toRow: r, toCol: c });
    v.scrollToIndex(r);
  };
  // A column that is out of sight to the side is brought into it.
  useEffect(() => {
    const box = scroller.current;
    if (!box) return;
    const x = columns.slice(0, range.toCol).reduce((sum, c) => sum + widthOf.get(c.field)!, nameWidth + budgetWidth);
    const w = widthOf.get(columns[range.toCol]?.field ?? "codec")!;
    if (x - nameWidth < box.scrollLeft) box.scrollLeft = x - nameWidth;
    else if (x + w > box.scrollLeft + box.clientWidth) box.scrollLeft = x + w - box.clientWidth;
  }, [range.toCol, columns]);

  const commit = (text: string, move: [number, number]) => {
    const cells = [];
    for (let row = top; row <= bottom; row++) for (let col = left; col <= right; col++) cells.push({ row, col, text });
    if (!actions.put(cells)) return;
    setEditing(null);
    scroller.current?.focus();
    if (top === bottom && left === right) go(range.toRow + move[0], range.toCol + move[1], false);
  };

  const onKey = (e: KeyboardEvent) => {
    if (editing !== null) return;
    const mod = e.ctrlKey || e.metaKey;
    const page = Math.max(1, Math.floor((scroller.current?.clientHeight ?? 400) / rowHeight) - 2);
    const to = walk(e, range, { rows: devices.length, cols: columns.length, page });
    const key = e.key.toLowerCase();
    let done = true;
    if (to) go(to.row, to.col, e.shiftKey);
    else if (mod && key === "a") setRange({ row: 0, col: 0, toRow: devices.length - 1, toCol: columns.length - 1 });
    else if (mod && key === "d") actions.fill();
    else if (mod && key === "z" && !e.shiftKey) actions.undo();
    else if (mod && (key === "y" || (key === "z" && e.shiftKey))) actions.redo();
    else if (e.key === "Delete" || e.key === "Backspace") commit("", [0, 0]);
    else if (e.key === "Enter" || e.key === "F2") setEditing(textAt(devices, columns, drafts, range));
    else if (!mod && !e.altKey && e.key.length === 1 && e.key !== " ") setEditing(e.key);
    else done = false;
    if (done) {
      e.preventDefault();
      e.stopPropagation();
    }
  };
  const active = devices[range.toRow] && `cell-${devices[range.toRow]!.id}-${range.toCol}`;
  return (
    <div
      ref={scroller}
      role="grid"
      tabIndex={0}
      aria-label="Streams of the cameras"
      aria-multiselectable
      aria-rowcount={devices.length + 3}
      aria-colcount={columns.length + 2}
      aria-activedescendant={active}
      onKeyDown={onKey}
      onCopy={(e) => {
        if (editing !== null) return;
        e.clipboardData.setData("text/plain", actions.copy());
        e.preventDefault();
      }}
      onPaste={(e) => {
        if (editing !== null) return;
        e.preventDefault();
        actions.paste(e.clipboardData.getData("text/plain"));
      }}
      className="relative min-h-0 grow overflow-auto outline-offset-[-2px] select-none"
    >
      <div style={{ width }} className="relative">
        <StreamsHeads columns={columns} shownRoles={shownRoles} template={template} search={search} corner={corner} />
        <div style={{ height: v.getTotalSize() }} className="relative" role="rowgroup">
          {v.getVirtualItems().map((i) => {
            const d = devices[i.index]!;
            const inRow = i.index >= top && i.index <= bottom;
            return (
              <StreamsRow
                key={d.id}
                d={d}
                index={i.index}
                start={i.start}
                columns={columns}
                template={template}
                draft={drafts.get(d.id)}
                selected={inRow ? `${left}-${right}` : ""}
                at={i.index === range.toRow ? range.toCol : -1}
                editing={i.index === range.toRow ? editing : null}
                setEditing={setEditing}
                commit={commit}
                pick={(col, extend) => {
                  setRange(extend ? { ...range, toRow: i.index, toCol: col } : { row: i.index, col, toRow: i.index, toCol: col });
                }}
                pickRow={(extend) => setRange({ row: extend ? range.row : i.index, col: 0, toRow: i.index, toCol: columns.length - 1 })}
                stays={shownRoles.length > 2}
                used={shownRoles.reduce((sum, role) => sum + pixels(d, role, drafts.get(d.id)?.[role]), 0)}
                bound={bounds.get(modelOf(d))}
                most={most}
              />
            );
          })}
        </div>
        <StreamsTotals devices={devices} columns={columns} drafts={drafts} template={template} />
      </div>
    </div>
  );
}

const modelOf = (d: Device) => `${d.maker ?? ""} ${d.model ?? ""}`.trim();

const textAt = (devices: Device[], columns: Column[], drafts: Drafts, r: Range) => {
  const d = devices[r.toRow];
  const c = columns[r.toCol];
  return d && c ? cellText(c.field, drafts.get(d.id)?.[c.role] ?? planned(d, c.role)) : "";
};
