import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type PointerEvent, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { Device, Target } from "@/api/client";
import { usePlace, useTakeOff } from "@/api/targets";
import { type Range, rangeCols, rangeRows, walk } from "@/parts/grid";
import { cordsOf, rowsOf } from "@/parts/patch";
import { type CellState, filtered, type Fittings, filling, tally } from "./placing";
import { useFrame } from "@/parts/useFrame";
import { MatrixBar } from "./MatrixBar";
import { MatrixFilter } from "./MatrixFilter";
import { MatrixHead } from "./MatrixHead";
import { cellWidth, MatrixRow, nameWidth, rowHeight } from "./MatrixRow";
import { PatchCard } from "./PatchCard";

const one: Range = { row: 0, col: 0, toRow: 0, toCol: 0 };

/** Cameras down, targets across: a cell says the slot and how it stands. What is done here shows in the cords, and the other way round. */
export function PatchMatrix({ channels, targets, fittings }: { channels: Device[]; targets: Target[]; fittings: Fittings }) {
  const { site } = useFrame();
  const [params, setParams] = useSearchParams();
  const [only, setOnly] = useState<CellState | "all">("all");
  const [range, setRange] = useState(one);
  const dragged = useRef(false);
  const scroller = useRef<HTMLDivElement>(null);
  const place = usePlace(site.id);
  const takeOff = useTakeOff(site.id);
  const shown = useMemo(() => filtered(channels, only), [channels, only]);
  const counts = useMemo(() => tally(channels), [channels]);
  const cords = useMemo(() => cordsOf(rowsOf(targets, channels)), [targets, channels]);
  const wanted = params.get("cord") ?? "";
  const cord = wanted ? cords.find((c) => `${c.device.id} ${c.row.target.id}` === wanted) : undefined;
  const choose = (key?: string) => setParams(key ? { cord: key } : {}, { replace: true });
  const v = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 4,
    initialRect: { width: 1000, height: 800 },
  });
  const [top, bottom] = rangeRows(range);
  const [left, right] = rangeCols(range);
  const picked = useMemo(
    () => ({ devices: shown.slice(top, bottom + 1), targets: targets.slice(left, right + 1) }),
    [shown, targets, top, bottom, left, right],
  );
  const fill = useMemo(() => filling(picked.devices, picked.targets, fittings), [picked, fittings]);
  const standing = picked.devices.flatMap((d) => d.placements.filter((p) => picked.targets.some((t) => t.id === p.target)));

  const go = (row: number, col: number, extend: boolean) => {
    const toRow = Math.max(0, Math.min(shown.length - 1, row));
    const toCol = Math.max(0, Math.min(targets.length - 1, col));
    setRange(extend ? { ...range, toRow, toCol } : { row: toRow, col: toCol, toRow, toCol });
    v.scrollToIndex(toRow);
    const box = scroller.current;
    if (!box) return;
    const x = nameWidth + toCol * cellWidth;
    if (x - nameWidth < box.scrollLeft) box.scrollLeft = x - nameWidth;
    else if (x + cellWidth > box.scrollLeft + box.clientWidth) box.scrollLeft = x + cellWidth - box.clientWidth;
  };
  const put = () => {
    if (fill.placements.length > 0)
      place.mutate({
        placements: fill.placements,
        tune: fill.tune,
        name: picked.targets.length === 1 ? picked.targets[0]!.name : `${picked.targets.length} targets`,
      });
    else if (standing.length > 0) choose(`${picked.devices[0]!.id} ${picked.targets[0]!.id}`);
  };
  const clear = () => {
    for (const t of picked.targets) {
      const there = picked.devices.flatMap((d) => d.placements.filter((p) => p.target === t.id).map((p) => ({ id: d.id, slot: p.token })));
      if (there.length > 0)
        takeOff.mutate({ devices: there.map((x) => x.id), target: t.id, name: t.name, slots: there.map((x) => x.slot) });
    }
  };
  const onKey = (e: KeyboardEvent) => {
    const page = Math.max(1, Math.floor((scroller.current?.clientHeight ?? 400) / rowHeight) - 2);
    const to = walk(e, range, { rows: shown.length, cols: targets.length, page });
    if (to) go(to.row, to.col, e.shiftKey);
    else if (e.key === "Enter") put();
    else if (e.key === "Delete" || e.key === "Backspace") clear();
    else if (e.key === "Escape" && wanted) choose();
    else if (e.key === "Escape") setRange({ ...range, row: range.toRow, col: range.toCol });
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  const cellUnder = (e: PointerEvent) => {
    const cell = (e.target as HTMLElement).closest<HTMLElement>("[data-cell]")?.dataset.cell?.split(" ");
    return cell && { row: Number(cell[0]), col: Number(cell[1]) };
  };
  return (
    <div className="flex min-h-0 grow flex-col">
      <MatrixFilter
        counts={counts}
        all={channels.length}
        only={only}
        onChange={(o) => {
          setOnly(o);
          setRange(one);
        }}
      />
      <div
        ref={scroller}
        role="grid"
        tabIndex={0}
        aria-label="Cameras and targets"
        aria-rowcount={shown.length + 1}
        aria-colcount={targets.length + 1}
        aria-activedescendant={shown[range.toRow] && `cell-${range.toRow}-${range.toCol}`}
        className="relative min-h-0 grow overflow-auto outline-offset-[-2px] select-none"
        onKeyDown={onKey}
        onPointerDown={(e) => {
          const at = e.button === 0 ? cellUnder(e) : undefined;
          if (!at) return;
          dragged.current = e.pointerType === "mouse"; // a finger scrolls
          setRange(e.shiftKey ? { ...range, toRow: at.row, toCol: at.col } : { ...at, toRow: at.row, toCol: at.col });
        }}
        onPointerMove={(e) => {
          const at = dragged.current ? cellUnder(e) : undefined;
          if (at && (at.row !== range.toRow || at.col !== range.toCol)) setRange({ ...range, toRow: at.row, toCol: at.col });
        }}
        onPointerUp={() => (dragged.current = false)}
        onPointerLeave={() => (dragged.current = false)}
        onDoubleClick={put}
      >
        <div style={{ width: nameWidth + targets.length * cellWidth }}>
          <MatrixHead targets={targets} site={site.id} at={range.toCol} />
          <div style={{ height: v.getTotalSize() }} className="relative" role="rowgroup">
            {v.getVirtualItems().map((i) => {
              const device = shown[i.index]!;
              return (
                <MatrixRow
                  key={device.id}
                  device={device}
                  index={i.index}
                  start={i.start}
                  targets={targets}
                  fittings={fittings}
                  at={i.index === range.toRow ? range.toCol : -1}
                />
              );
            })}
            {shown.length > 0 && <Selection range={range} />}
          </div>
          {shown.length === 0 && <p className="p-4 text-soft">No camera stands so.</p>}
        </div>
      </div>
      {cord ? (
        <PatchCard cord={cord} onClose={() => choose()} />
      ) : (
        <MatrixBar
          site={site.id}
          {...picked}
          fittings={fittings}
          fill={fill}
          standing={standing.length}
          busy={place.isPending}
          onPut={put}
          onClear={clear}
        />
      )}
    </div>
  );
}

/** What is selected, as one rectangle over the rows: nothing of them is drawn anew for it. */
function Selection({ range }: { range: Range }) {
  const [top, bottom] = rangeRows(range);
  const [left, right] = rangeCols(range);
  const style = {
    top: top * rowHeight,
    height: (bottom - top + 1) * rowHeight,
    left: nameWidth + left * cellWidth,
    width: (right - left + 1) * cellWidth,
  };
  return <div aria-hidden className="pointer-events-none absolute bg-ink/15" style={style} />;
}
