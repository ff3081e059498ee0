import { memo, useState } from "react";
import type { Budget, Device } from "@/api/client";
import type { Column } from "./matrix";
import { stillOf } from "@/parts/measures";
import { cellText, fields, measuredText, planned, type Role, signOf, type Sign, type Wish } from "@/parts/plan";

/** The height of a row in pixels. */
export const rowHeight = 42;

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

/** One camera of the matrix. */
export const StreamsRow = memo(RowOf, (a, b) => {
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
  const still = stillOf(d);
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
        className={`stream-name relative flex cursor-pointer flex-col justify-center border-r pl-[68px] leading-tight
          ${stays ? "sticky! left-0 z-10" : ""} border-l-4 ${selected ? "is-picked border-l-ink" : "border-l-transparent bg-paper"}`}
        title={`${d.name}: select its row`}
      >
        {still && (
          <img
            src={still}
            alt=""
            decoding="async"
            className="absolute top-[7px] left-2 h-7 w-12 rounded-sm object-cover"
            draggable={false}
          />
        )}
        <span className="truncate font-medium">{d.name}</span>
        <span className="truncate text-tiny text-soft">{[d.maker, d.model].filter(Boolean).join(" ") || d.address}</span>
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
            className={`stream-cell${c.field === "codec" ? " border-l" : ""}${chosen ? " is-picked" : ""}${
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
        className="mono absolute inset-0 h-full w-full min-w-16 bg-sheet px-1.5 text-right outline-2 -outline-offset-2
          outline-brass select-text"
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
  const title =
    used === 0
      ? "Nothing is known of its streams yet."
      : bound
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
        {used > 0 ? `${(used / 1e6).toFixed(1)}M` : "–"}
      </span>
    </div>
  );
}
