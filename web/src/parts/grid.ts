/** What grids of cells share: a rectangle of them, and where keys lead. */

/** A rectangle of cells: rows and columns, both ends within it. The first corner is where it was begun. */
export type Range = { row: number; col: number; toRow: number; toCol: number };

export const rangeRows = (r: Range) => [Math.min(r.row, r.toRow), Math.max(r.row, r.toRow)] as const;
export const rangeCols = (r: Range) => [Math.min(r.col, r.toCol), Math.max(r.col, r.toCol)] as const;

/** How far the matrix reaches, and how many rows a page has. */
export type Extent = { rows: number; cols: number; page: number };

/** The cell that a key leads to from the one in hand; it may lie outside of the matrix. Undefined for a key that leads nowhere. */
export function walk(
  e: { key: string; ctrlKey: boolean; metaKey: boolean },
  at: Pick<Range, "toRow" | "toCol">,
  { rows, cols, page }: Extent,
): { row: number; col: number } | undefined {
  const far = e.ctrlKey || e.metaKey; // to the edge
  const to = (row: number, col: number) => ({ row, col });
  switch (e.key) {
    case "ArrowDown":
      return to(far ? rows - 1 : at.toRow + 1, at.toCol);
    case "ArrowUp":
      return to(far ? 0 : at.toRow - 1, at.toCol);
    case "ArrowRight":
      return to(at.toRow, far ? cols - 1 : at.toCol + 1);
    case "ArrowLeft":
      return to(at.toRow, far ? 0 : at.toCol - 1);
    case "PageDown":
      return to(at.toRow + page, at.toCol);
    case "PageUp":
      return to(at.toRow - page, at.toCol);
    case "Home":
      return to(far ? 0 : at.toRow, 0);
    case "End":
      return to(far ? rows - 1 : at.toRow, cols - 1);
  }
  return undefined;
}
