import { useVirtualizer } from "@tanstack/react-virtual";
import { Fragment, useEffect, useRef, useState } from "react";
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
import { columns, rowHeight } from "./columns";

type RowsProps = {
  shown: Device[];
  chosen: string | null;
  selected: Set<string>;
  narrow: boolean;
  renaming: string | null;
  setRenaming: (id: string | null) => void;
  choose: (id: string) => void;
  toggle: (id: string) => void;
};

export function Rows({ shown, chosen, selected, narrow, renaming, setRenaming, choose, toggle }: RowsProps) {
  const box = useRef<HTMLDivElement>(null);
  const phone = useMedia("(max-width: 767px)");
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => box.current,
    estimateSize: () => (phone ? 76 : rowHeight),
    overscan: 12,
  });
  const index = shown.findIndex((d) => d.id === chosen);
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
      aria-rowcount={shown.length}
    >
      <div className="relative" style={{ height: rows.getTotalSize() }}>
        {rows.getVirtualItems().map((v) => {
          const d = shown[v.index]!;
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
              className={`absolute inset-x-0 grid cursor-pointer grid-cols-[20px_96px_1fr] items-center gap-x-3 border-b px-4
                ${columns(narrow)} ${on ? "bg-well" : "hover:bg-well/60"}`}
              style={{ transform: `translateY(${v.start}px)`, height: v.size }}
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
              {!narrow && (
                <>
                  <span role="gridcell" className="text-small max-md:hidden">
                    {d.kind === "camera" && <StreamLine stream={streamOf(d, "main")} />}
                  </span>
                  <span role="gridcell" className="text-small max-md:hidden">
                    {d.kind === "camera" && <StreamLine stream={streamOf(d, "sub")} />}
                  </span>
                </>
              )}
              <span role="gridcell" className="truncate text-small max-md:hidden">
                <Targets device={d} />
              </span>
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

function Targets({ device }: { device: Device }) {
  return (
    <>
      {device.placements.map((p, i) => (
        <Fragment key={p.target}>
          {i > 0 && <span className="text-soft"> · </span>}
          <span className={p.diagnosis ? "text-stuck" : p.confirmed ? "" : "text-soft"}>
            {p.name}
            {/\d/.test(p.slot ?? "") && <span className="mono"> {p.slot!.replace(/\D+0*/, "")}</span>}
          </span>
        </Fragment>
      ))}
    </>
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
