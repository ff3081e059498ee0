import { useVirtualizer } from "@tanstack/react-virtual";
import { ExternalLink } from "lucide-react";
import { memo, useCallback, useLayoutEffect, useMemo, useRef, useState, type RefObject } from "react";
import { useNavigate } from "react-router";
import type { Device } from "@/api/client";
import { onRow, useGridFocus } from "@/parts/gridfocus";
import { useKeys } from "@/parts/keys";
import { SearchField } from "@/parts/SearchField";
import { ago, stillOf } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { TileMark } from "./AddressField";
import { holdsWords } from "@/parts/words";

type Column = "address" | "name" | "kind";

const rowHeight = 36;
const columns =
  "grid grid-cols-[minmax(112px,auto)_1fr] items-center gap-x-3 px-4 " +
  "sm:grid-cols-[118px_minmax(0,1.3fr)_minmax(0,1.3fr)_minmax(0,1.6fr)] " +
  "md:grid-cols-[118px_minmax(0,1.1fr)_minmax(0,1.1fr)_minmax(0,1.6fr)_minmax(0,1.2fr)_24px]";

/** Every device heard inside the ranges. Only the rows in sight are drawn, so that a thousand arriving hold nothing up. */
export const Heard = memo(function Heard({
  site,
  devices,
  scroller,
}: {
  site: string;
  devices: Device[];
  scroller: RefObject<HTMLDivElement | null>;
}) {
  const go = useNavigate();
  const [text, setText] = useState("");
  const [by, setBy] = useState<Column>("address");
  const search = useRef<HTMLInputElement>(null);
  const list = useRef<HTMLDivElement>(null);
  const [above, setAbove] = useState(0);
  // How far down the list begins changes with what stands above it, not with each device: measuring at each drawing would lay the
  // page out each time.
  useLayoutEffect(() => {
    const content = list.current?.parentElement;
    if (!content) return;
    const measure = () => setAbove(list.current?.offsetTop ?? 0);
    const watch = new ResizeObserver(measure);
    for (const e of content.children) if (e !== list.current) watch.observe(e);
    measure();
    return () => watch.disconnect();
  }, []);
  useKeys({ "/": () => search.current?.focus() });
  const shown = useMemo(() => {
    const holds = holdsWords(text);
    const fitting = devices.filter((d) =>
      holds(d.address, d.name, d.kind, d.maker, d.model, d.serial, d.mac, d.is, ...d.methods, d.via?.name, d.via?.camera),
    );
    // The server lists in order of address already.
    return by === "address" ? fitting : fitting.sort((a, b) => a[by].localeCompare(b[by]));
  }, [devices, text, by]);
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 10,
    scrollMargin: above,
  });
  const [at, setAt] = useState(0);
  const tab = Math.min(at, Math.max(shown.length - 1, 0)); // the row that the Tab key comes to
  useGridFocus(list, tab);
  const most = shown.length - 1;
  const move = useCallback(
    (to: number) => {
      const next = Math.max(0, Math.min(most, to));
      setAt(next);
      rows.scrollToIndex(next, { align: "auto" });
    },
    [most, rows],
  );
  const sortable = (column: Column, title: string) => (
    <span role="columnheader" aria-sort={by === column ? "ascending" : "none"}>
      <button
        type="button"
        className={`min-h-6 text-left ${by === column ? "text-ink underline decoration-1 underline-offset-4" : "hover:text-ink"}`}
        onClick={() => setBy(column)}
      >
        {title}
      </button>
    </span>
  );
  return (
    <>
      <div className="border-b px-4 py-2">
        <SearchField
          field={search}
          text={text}
          setText={setText}
          label="Search the devices"
          placeholder="Address, name, maker, MAC, what heard it"
          className="block max-w-sm"
        />
      </div>
      <div role="grid" aria-label="Devices heard" aria-rowcount={shown.length + 1}>
        <div className={`h-7 border-b text-small text-soft ${columns}`} role="row">
          {sortable("address", "Address")}
          {sortable("name", "Device")}
          <span className="contents max-sm:hidden">
            {sortable("kind", "What it is")}
            <span role="columnheader">Open ports</span>
          </span>
          <span role="columnheader" className="max-md:hidden">
            Heard by
          </span>
          <span role="columnheader" className="max-md:hidden">
            <span className="sr-only">Page</span>
          </span>
        </div>
        <div ref={list} className="relative" style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map((v) => (
            <Row
              key={shown[v.index]!.id}
              device={shown[v.index]!}
              top={v.start - above}
              index={v.index}
              tab={v.index === tab}
              move={move}
              open={(id) => go(`/sites/${site}?device=${id}`)}
            />
          ))}
        </div>
      </div>
    </>
  );
});

const told = (d: Device) => d.named || d.claims.some((c) => c.method !== "neighbour table" && c.method !== "port sweep");

const Row = memo(
  function Row({
    device: d,
    top,
    index,
    tab,
    move,
    open,
  }: {
    device: Device;
    top: number;
    index: number;
    tab: boolean;
    move: (to: number) => void;
    open: (id: string) => void;
  }) {
    const still = stillOf(d);
    return (
      <div
        role="row"
        data-heard={d.address}
        data-index={index}
        aria-rowindex={index + 2}
        tabIndex={tab ? 0 : -1}
        onKeyDown={onRow({
          Enter: () => d.kind !== "other" && open(d.id),
          ArrowDown: () => move(index + 1),
          ArrowUp: () => move(index - 1),
          Home: () => move(0),
          End: () => move(Number.MAX_SAFE_INTEGER),
        })}
        className={`absolute inset-x-0 cursor-pointer border-b hover:bg-well/60 ${columns}`}
        style={{ transform: `translateY(${top}px)`, height: rowHeight }}
        onClick={() => d.kind !== "other" && open(d.id)}
      >
        <span role="gridcell" className={`whitespace-nowrap ${d.via ? "pl-4 text-small text-soft" : "mono"}`}>
          {d.via ? `channel ${d.via.channel}` : d.address}
        </span>
        <span role="gridcell" className="flex min-w-0 items-center gap-2 truncate font-medium">
          {still && <Still src={still} name={d.name} className="h-6 w-[43px]" />}
          {d.kind === "other" ? (
            <span className="truncate font-normal text-soft">{d.is || (told(d) ? d.name : "not a camera")}</span>
          ) : (
            <span className="truncate">{d.name}</span>
          )}
          {d.left_at && <span className="text-small font-normal text-stuck">left {ago(d.left_at)}</span>}
        </span>
        <span role="gridcell" className="inline-flex items-center gap-2 truncate max-sm:hidden">
          <TileMark mark={d.conflict ? "conflict" : d.kind} />
          {d.conflict ? (
            <span className="text-stuck">address conflict</span>
          ) : d.via ? (
            <span className="truncate">through {d.via.name}</span>
          ) : (
            d.kind
          )}
          {d.model && <span className="truncate text-soft">{d.model}</span>}
        </span>
        <span role="gridcell" className="mono truncate text-small max-sm:hidden">
          {d.via?.camera && (
            <span className="text-soft">
              behind it at <span className="text-ink">{d.via.camera}</span>
            </span>
          )}
          {d.ports.map((p) => (
            <span key={p.number} className="mr-3 whitespace-nowrap">
              {p.number} <span className="text-soft">{p.speaks}</span>
            </span>
          ))}
        </span>
        <span role="gridcell" className="truncate text-small text-soft max-md:hidden" title={d.methods.join(", ")}>
          {d.methods.join(", ")}
        </span>
        <span role="gridcell" className="max-md:hidden">
          {d.web && (
            <a
              href={d.web}
              target="_blank"
              rel="noreferrer"
              onClick={(e) => e.stopPropagation()}
              aria-label={`${d.name}: its own page`}
              title="Its own page"
              className="inline-block p-1 text-soft hover:text-ink"
            >
              <ExternalLink size={14} />
            </a>
          )}
        </span>
      </div>
    );
  },
  (a, b) => a.device === b.device && a.top === b.top && a.tab === b.tab && a.move === b.move,
);
