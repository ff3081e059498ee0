import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import type { Device } from "@/api/client";
import { useRename } from "@/api/actions";
import { Check } from "@/parts/Check";
import { onRow, useGridFocus } from "@/parts/gridfocus";
import { LatchChain } from "@/parts/LatchChain";
import { streamOf } from "@/parts/latches";
import { stillOf, StreamLine } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { useMedia } from "@/parts/useMedia";
import { useFrame } from "@/parts/useFrame";
import { StateSign } from "@/parts/StateSign";
import { Tip } from "@/parts/Tip";
import { headHeight, rowHeight, shownColumns, template } from "./columns";
import { type Column, grouped, type Head, isHead, type View } from "./view";

type RowsProps = {
  shown: Device[];
  view: View;
  chosen: string | null;
  selected: Set<string>;
  narrow: boolean;
  renaming: string | null;
  setRenaming: (id: string | null) => void;
  choose: (id: string) => void;
  toggle: (id: string) => void;
};

export function Rows({ shown, view, chosen, selected, narrow, renaming, setRenaming, choose, toggle }: RowsProps) {
  const box = useRef<HTMLDivElement>(null);
  const phone = useMedia("(max-width: 767px)");
  const lines = useMemo(() => grouped(shown, view.group), [shown, view.group]);
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => (isHead(lines[i]!) ? headHeight : phone ? 76 : rowHeight),
    overscan: 12,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: other lines have other heights
  useEffect(() => rows.measure(), [lines, rows]);
  const index = lines.findIndex((d) => !isHead(d) && d.id === chosen);
  useEffect(() => {
    if (index >= 0) rows.scrollToIndex(index, { align: "auto" });
  }, [index, rows]);
  const tab = Math.max(index, 0); // the row that the Tab key comes to
  useGridFocus(box, tab);
  return (
    <div
      ref={box}
      className="min-h-0 grow overflow-auto [scrollbar-gutter:stable]"
      role="grid"
      aria-label="Cameras"
      aria-rowcount={lines.length}
    >
      <div className="relative" style={{ height: rows.getTotalSize() }}>
        {rows.getVirtualItems().map((v) => {
          const d = lines[v.index]!;
          if (isHead(d)) return <GroupHead key={`head ${d.head}`} head={d} start={v.start} />;
          const on = d.id === chosen;
          return (
            <div
              key={d.id}
              role="row"
              aria-selected={on}
              aria-rowindex={v.index + 1}
              data-device={d.name}
              data-at={d.at}
              data-index={v.index}
              tabIndex={v.index === tab ? 0 : -1}
              onKeyDown={onRow({ Enter: () => choose(d.id), " ": () => toggle(d.id) })}
              onClick={() => choose(d.id)}
              onDoubleClick={() => setRenaming(d.id)}
              className={`absolute inset-x-0 grid cursor-pointer items-center gap-x-3 border-b px-4
                ${selected.has(d.id) ? "is-picked" : on ? "bg-well" : "hover:bg-well/60"}`}
              style={{
                transform: `translateY(${v.start}px)`,
                height: v.size,
                gridTemplateColumns: phone ? "20px 96px 1fr" : template(view.columns, narrow),
              }}
            >
              {on && <span aria-hidden className="absolute inset-y-0 left-0 w-1 bg-ink" />}
              <span role="gridcell">
                <Check checked={selected.has(d.id)} onChange={() => toggle(d.id)} label={`Select ${d.name}`} />
              </span>
              <span role="gridcell">
                <Still src={stillOf(d)} name={d.name} recorder={d.kind === "recorder"} className="h-14 w-24 md:h-8 md:w-14" />
              </span>
              <div role="gridcell" className="min-w-0">
                {renaming === d.id ? (
                  <RenameInput device={d} done={() => setRenaming(null)} />
                ) : (
                  <div className="truncate font-medium">{d.name}</div>
                )}
                <div className="truncate text-small leading-4 text-soft">
                  {d.via ? (
                    <>
                      channel {d.via.channel} of {d.via.name}
                    </>
                  ) : (
                    <span className="mono">{d.address}</span>
                  )}
                  {d.kind === "recorder" ? " · recorder" : d.model ? ` · ${d.model}` : ""}
                </div>
                <div className="mt-1 md:hidden">
                  <LatchChain latches={d.latches} />
                </div>
              </div>
              <span role="gridcell" className="max-md:hidden">
                <Standing device={d} />
              </span>
              {shownColumns(view.columns, narrow).map((c) => (
                <span key={c} role="gridcell" className="min-w-0 truncate text-small max-md:hidden">
                  <Cell device={d} column={c} />
                </span>
              ))}
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** A recorder is a target: its eight latches end at "Signed in". */
function Standing({ device }: { device: Device }) {
  if (device.kind === "recorder" && device.next.action === "none") return <span className="text-small text-open">ready for cameras</span>;
  return <LatchChain latches={device.kind === "recorder" ? device.latches.slice(0, 3) : device.latches} />;
}

/** What a column says of a device. */
function Cell({ device: d, column }: { device: Device; column: Column }) {
  switch (column) {
    case "main":
    case "sub":
      return d.kind === "camera" ? <StreamLine stream={streamOf(d, column)} /> : null;
    case "on":
      return <Targets device={d} />;
    case "serial":
    case "mac":
      return <span className="mono">{d[column]}</span>;
    case "firmware":
      return d.firmware;
  }
}

/** Where a camera is on: a mark for each target and how many there are; their names on hover and focus. */
function Targets({ device }: { device: Device }) {
  const list = device.placements;
  if (list.length === 0) return null;
  const names = list.map((p) => `${p.name}${p.slot ? `, ${p.slot}` : ""}: ${p.state}`);
  return (
    <Tip
      text={
        <ul>
          {names.map((n) => (
            <li key={n}>{n}</li>
          ))}
        </ul>
      }
    >
      <span className="flex items-center gap-0.5" role="img" aria-label={`On ${names.join("; ")}`}>
        {list.slice(0, 7).map((p) => (
          <StateSign key={p.target} state={p.state} />
        ))}
        <span className="num ml-1 truncate text-soft">{list.length === 1 ? list[0]!.name : list.length}</span>
      </span>
    </Tip>
  );
}

/** Where a group begins. */
function GroupHead({ head, start }: { head: Head; start: number }) {
  return (
    <div
      role="row"
      className="absolute inset-x-0 flex items-end gap-2 border-b bg-paper px-4 pb-1 text-small"
      style={{ transform: `translateY(${start}px)`, height: headHeight }}
    >
      <span role="gridcell" className="font-semibold">
        {head.head} <span className="num font-normal text-soft">{head.count}</span>
      </span>
    </div>
  );
}

function RenameInput({ device, done }: { device: Device; done: () => void }) {
  const { site } = useFrame();
  const rename = useRename(site.id);
  const [was] = useState(device.named ? device.name : "");
  return (
    <input
      autoFocus
      aria-label={`Name of ${device.address}`}
      defaultValue={was}
      placeholder="What does it see?"
      className="h-6 w-full rounded-sm border bg-sheet px-1.5"
      onClick={(e) => e.stopPropagation()}
      onBlur={done}
      onKeyDown={(e) => {
        if (e.key === "Escape") done();
        if (e.key === "Enter") {
          rename.mutate({ device: device.id, name: e.currentTarget.value.trim(), was });
          done();
        }
      }}
    />
  );
}
