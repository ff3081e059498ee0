import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, type KeyboardEvent, type ReactNode, useEffect, useMemo, useRef, useState } from "react";
import type { Budget, Device } from "@/api/client";
import { type Column, type Drafts, type Range, rangeCols, rangeRows } from "@/parts/matrix";
import { bitrate } from "@/parts/measures";
import { cellText, fields, kbpsOf, measuredText, pixels, planned, type Role, signOf, type Sign, type Wish } from "@/parts/plan";

const rowHeight = 42;
const nameWidth = 190;
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
    const moves: Record<string, [number, number]> = {
      ArrowDown: [1, 0],
      ArrowUp: [-1, 0],
      ArrowRight: [0, 1],
      ArrowLeft: [0, -1],
      PageDown: [page, 0],
      PageUp: [-page, 0],
    };
    const step = moves[e.key];
    const key = e.key.toLowerCase();
    let done = true;
    if (step && mod && e.key.startsWith("Arrow"))
      go(
        step[0] ? (step[0] > 0 ? devices.length - 1 : 0) : range.toRow,
        step[1] ? (step[1] > 0 ? columns.length - 1 : 0) : range.toCol,
        e.shiftKey,
      );
    else if (step) go(range.toRow + step[0], range.toCol + step[1], e.shiftKey);
    else if (e.key === "Home") go(mod ? 0 : range.toRow, 0, e.shiftKey);
    else if (e.key === "End") go(mod ? devices.length - 1 : range.toRow, columns.length - 1, e.shiftKey);
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
        <Heads columns={columns} shownRoles={shownRoles} template={template} search={search} corner={corner} />
        <div style={{ height: v.getTotalSize() }} className="relative" role="rowgroup">
          {v.getVirtualItems().map((i) => {
            const d = devices[i.index]!;
            const inRow = i.index >= top && i.index <= bottom;
            return (
              <Row
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
        <Totals devices={devices} columns={columns} drafts={drafts} template={template} />
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

function Heads({
  columns,
  shownRoles,
  template,
  search,
  corner,
}: {
  columns: Column[];
  shownRoles: readonly Role[];
  template: string;
  search: ReactNode;
  corner: ReactNode;
}) {
  return (
    <div role="rowgroup" className="sticky top-0 z-20 border-b bg-sheet text-small text-soft">
      <div className="grid h-8 items-end" style={{ gridTemplateColumns: template }} role="row" aria-rowindex={1}>
        <span role="columnheader" className="sticky left-0 z-10 h-full bg-sheet pt-1 pr-2 pl-3">
          {search}
        </span>
        <span role="columnheader">{corner}</span>
        {shownRoles.map((role) => (
          <span
            key={role}
            role="columnheader"
            style={{ gridColumn: `span ${fields.length}` }}
            className="border-l pl-2 font-semibold text-ink"
          >
            {role === "main" ? "Main" : role === "sub" ? "Sub" : "Third"} stream
          </span>
        ))}
      </div>
      <div className="grid h-6 items-center" style={{ gridTemplateColumns: template }} role="row" aria-rowindex={2}>
        <span role="columnheader" className="sticky left-0 z-10 bg-sheet pl-4">
          Camera
        </span>
        <span role="columnheader" className="px-2" title="What its streams ask of the encoder together, in pixels a second">
          Encoder
        </span>
        {columns.map((c) => {
          const f = fields.find((x) => x.field === c.field)!;
          return (
            <span
              key={`${c.role}-${c.field}`}
              role="columnheader"
              title={f.long}
              className={`pr-2 text-right ${c.field === "codec" ? "h-full border-l pt-0.5" : ""}`}
            >
              {f.label}
            </span>
          );
        })}
      </div>
    </div>
  );
}

const signs: Record<Sign, { text: string; look: string; title: string }> = {
  meets: { text: "=", look: "is-open", title: "meets the plan" },
  differs: { text: "≠", look: "is-stuck", title: "differs from the plan" },
  unknown: { text: "?", look: "", title: "not measured yet" },
  off: { text: "–", look: "is-open", title: "off, as planned" },
  none: { text: "", look: "", title: "" },
};

type RowProps = {
  d: Device;
  index: number;
  start: number;
  columns: Column[];
  template: string;
  draft: Partial<Record<Role, Wish>> | undefined;
  selected: string;
  at: number;
  editing: string | null;
  setEditing: (text: string | null) => void;
  commit: (text: string, move: [number, number]) => void;
  pick: (col: number, extend: boolean) => void;
  pickRow: (extend: boolean) => void;
  stays: boolean; // its name stays in sight when the matrix is wider than the page
  used: number;
  bound: Budget | undefined;
  most: number;
};

const Row = memo(RowOf, (a, b) => {
  // The functions close over the range: they are the same to a row that is not in hand before and after.
  if (a.at >= 0 || b.at >= 0 || a.selected !== b.selected) return false;
  return (
    a.d === b.d &&
    a.start === b.start &&
    a.columns === b.columns &&
    a.draft === b.draft &&
    a.used === b.used &&
    a.stays === b.stays &&
    a.bound === b.bound &&
    a.most === b.most
  );
});

function RowOf({
  d,
  index,
  start,
  columns,
  template,
  draft,
  selected,
  at,
  editing,
  setEditing,
  commit,
  pick,
  pickRow,
  stays,
  used,
  bound,
  most,
}: RowProps) {
  const [from, to] = selected ? selected.split("-").map(Number) : [1, 0];
  return (
    <div
      role="row"
      aria-rowindex={index + 3}
      data-streams={d.name}
      className="stream-row"
      style={{ height: rowHeight, transform: `translateY(${start}px)`, gridTemplateColumns: template }}
    >
      <div
        role="rowheader"
        onMouseDown={(e) => pickRow(e.shiftKey)}
        className={`stream-name flex cursor-pointer flex-col justify-center border-r pl-4 leading-tight ${stays ? "sticky left-0 z-10" : ""} ${selected ? "bg-well" : "bg-paper"}`}
        title={`${d.name}: select its row`}
      >
        <span className="truncate font-medium">{d.name}</span>
        <span className="truncate text-tiny text-soft">
          {d.maker} {d.model}
        </span>
      </div>
      <EncoderBar used={used} bound={bound} most={most} />
      {columns.map((c, col) => {
        const wish = draft?.[c.role];
        const plan = cellText(c.field, wish ?? planned(d, c.role));
        const changed = wish !== undefined && plan !== cellText(c.field, planned(d, c.role));
        const got = measuredText(
          c.field,
          d.streams.find((s) => s.role === c.role),
        );
        const sign = signs[changed ? "none" : signOf(d, c.role, c.field)];
        const chosen = col >= from! && col <= to!;
        return (
          <div
            key={`${c.role}-${c.field}`}
            id={`cell-${d.id}-${col}`}
            role="gridcell"
            aria-selected={chosen}
            aria-colindex={col + 3}
            onMouseDown={(e) => pick(col, e.shiftKey)}
            onMouseEnter={(e) => e.buttons === 1 && pick(col, true)}
            onDoubleClick={() => setEditing(plan)}
            className={`stream-cell${c.field === "codec" ? " border-l" : ""}${chosen ? " bg-well" : ""}${
              at === col ? " outline-2 -outline-offset-2 outline-focus" : ""
            }`}
          >
            {at === col && editing !== null ? (
              <Editor text={editing} d={d} column={c} commit={commit} cancel={() => setEditing(null)} />
            ) : (
              <>
                {(plan || changed) && <b className={changed ? "is-typed" : undefined}>{plan || "as it is"}</b>}
                {(got || sign.text) && (
                  <small title={sign.title || undefined}>
                    {sign.text && <i className={sign.look}>{sign.text}</i>}
                    {got}
                  </small>
                )}
              </>
            )}
          </div>
        );
      })}
    </div>
  );
}

function Editor({
  text,
  d,
  column,
  commit,
  cancel,
}: {
  text: string;
  d: Device;
  column: Column;
  commit: (text: string, move: [number, number]) => void;
  cancel: () => void;
}) {
  const [value, setValue] = useState(text);
  return (
    <>
      <input
        autoFocus
        value={value}
        list={`offers-${column.field}`}
        aria-label={`${d.name}, ${column.role} stream, ${fields.find((f) => f.field === column.field)!.long}`}
        onChange={(e) => setValue(e.target.value)}
        onBlur={() => cancel()}
        onKeyDown={(e) => {
          if (e.key === "Enter") commit(value, [1, 0]);
          else if (e.key === "Tab") commit(value, [0, e.shiftKey ? -1 : 1]);
          else if (e.key === "Escape") cancel();
          else return;
          e.preventDefault();
          e.stopPropagation();
        }}
        className="mono absolute inset-0 h-full w-full min-w-16 bg-sheet px-1.5 text-right outline-2 -outline-offset-2 outline-brass select-text"
      />
      <datalist id={`offers-${column.field}`}>
        {offered(d, column).map((o) => (
          <option key={o} value={o} />
        ))}
      </datalist>
    </>
  );
}

/** What can be picked for a cell, as far as the device told. */
export function offered(d: Device, c: Column): string[] {
  switch (c.field) {
    case "codec":
      return [...(d.offers?.codecs[c.role] ?? ["H.264", "H.265"]), "off"];
    case "size":
      return (d.offers?.sizes[c.role] ?? []).map((s) => s.replace("x", "×"));
    case "control":
      return ["CBR", "VBR"];
    default:
      return [];
  }
}

/** What the streams of a camera ask of its encoder together, within what its model has shown, where it has shown it. */
function EncoderBar({ used, bound, most }: { used: number; bound: Budget | undefined; most: number }) {
  const all = bound?.pixels_per_sec ?? most;
  const over = bound !== undefined && used > bound.pixels_per_sec;
  const mega = (v: number) => `${(v / 1e6).toFixed(1)} megapixels a second`;
  const title = bound
    ? `${mega(used)} of at most ${mega(bound.pixels_per_sec)}. ${bound.why}`
    : `${mega(used)}. What its encoder gets through at most has not been seen.`;
  return (
    <div className="flex flex-col justify-center gap-1 px-2" title={title} role="gridcell">
      <span className="relative block h-1.5 rounded-sm bg-well">
        <span
          className={`absolute inset-y-0 left-0 rounded-sm ${over ? "bg-stuck" : bound ? "bg-open" : "bg-soft/60"}`}
          style={{ width: `${Math.min(100, (used / all) * 100)}%` }}
        />
        {bound && <span className="absolute inset-y-[-3px] right-0 w-0.5 bg-ink" />}
      </span>
      <span className={`mono text-tiny leading-none whitespace-nowrap ${over ? "text-stuck" : "text-soft"}`}>
        {over ? "! " : ""}
        {(used / 1e6).toFixed(1)}M
      </span>
    </div>
  );
}

function Totals({ devices, columns, drafts, template }: { devices: Device[]; columns: Column[]; drafts: Drafts; template: string }) {
  const sums = useMemo(() => {
    const out = new Map<Role, number>();
    for (const c of columns)
      if (c.field === "kbps")
        out.set(
          c.role,
          devices.reduce((sum, d) => sum + kbpsOf(d, c.role, drafts.get(d.id)?.[c.role]), 0),
        );
    return out;
  }, [devices, columns, drafts]);
  return (
    <div
      role="row"
      className="sticky bottom-0 z-20 grid h-8 items-center border-t bg-sheet font-medium"
      style={{ gridTemplateColumns: template }}
    >
      <span role="rowheader" className="sticky left-0 z-10 flex h-full items-center border-r bg-sheet pl-4">
        {devices.length} {devices.length === 1 ? "camera" : "cameras"}
      </span>
      <span role="gridcell" />
      {columns.map((c) => (
        <span key={`${c.role}-${c.field}`} role="gridcell" className="mono overflow-visible pr-2 text-right whitespace-nowrap" dir="rtl">
          {c.field === "kbps" && <bdi>{bitrate(sums.get(c.role) ?? 0)}</bdi>}
        </span>
      ))}
    </div>
  );
}
