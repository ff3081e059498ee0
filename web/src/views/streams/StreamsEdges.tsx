import { type ReactNode, useMemo } from "react";
import type { Device } from "@/api/client";
import type { Column, Drafts } from "./matrix";
import { bitrate } from "@/parts/measures";
import { fields, kbpsOf, type Role } from "@/parts/plan";

/** The two rows above the matrix, which stay in sight. */
export function StreamsHeads({
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

/** The row below the matrix: what its cameras send together. */
export function StreamsTotals({
  devices,
  columns,
  drafts,
  template,
}: {
  devices: Device[];
  columns: Column[];
  drafts: Drafts;
  template: string;
}) {
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
