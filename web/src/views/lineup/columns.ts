import { type Column, columnNames } from "./view";

/** The height of a row, in pixels. */
export const rowHeight = 44;

/** The height of the head of a group, in pixels. */
export const headHeight = 32;

const widths: Record<Column, string> = {
  main: "228px",
  sub: "228px",
  on: "minmax(96px,140px)",
  serial: "150px",
  mac: "150px",
  firmware: "110px",
};

/** The columns that there is room for: beside the bench only where a camera is on. */
export const shownColumns = (columns: Column[], narrow: boolean) =>
  (Object.keys(columnNames) as Column[]).filter((c) => columns.includes(c) && (!narrow || c === "on"));

/** The line-up's grid: box, picture, name, latches, then the columns that are shown. */
export const template = (columns: Column[], narrow: boolean) =>
  `20px 56px minmax(${narrow ? 140 : 160}px,1fr) 132px ${shownColumns(columns, narrow)
    .map((c) => widths[c])
    .join(" ")}`;
