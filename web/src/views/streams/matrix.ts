import { type Range, rangeCols, rangeRows } from "@/parts/grid";
import { cellText, type Field, fields, measuredText, planned, type Role, typed, type Wish } from "@/parts/plan";
import type { Device } from "@/api/client";

/** What was typed for one device and not sent yet: by role the whole wish, and the text in its picture. */
export type Draft = Partial<Record<Role, Wish>> & { overlay?: string };

/** What was typed and not sent yet, by device. */
export type Drafts = ReadonlyMap<string, Draft>;

/** A column of the matrix. */
export type Column = { role: Role; field: Field };

export const columnsOf = (shown: readonly Role[]): Column[] =>
  shown.flatMap((role) => fields.map(({ field }) => ({ role, field }) satisfies Column));

/** What is wanted of a stream: as typed, else as planned. */
export const wishOf = (d: Device, role: Role, drafts: Drafts): Wish | undefined => drafts.get(d.id)?.[role] ?? planned(d, role);

/** Something that cannot be read in a cell, and where. */
export type Bad = { row: number; col: number; text: string; error: string };

/** Puts texts into cells, all or none: with one that cannot be read nothing changes, and each of them is told. */
export function put(
  drafts: Drafts,
  devices: Device[],
  columns: Column[],
  cells: { row: number; col: number; text: string }[],
): { drafts: Drafts; bad: Bad[] } {
  const out = new Map(drafts);
  const bad: Bad[] = [];
  for (const c of cells) {
    const d = devices[c.row];
    const at = columns[c.col];
    if (!d || !at) continue;
    const before = wishOf(d, at.role, out) ?? {};
    const wish = typed(at.field, c.text, before);
    if ("error" in wish) bad.push({ ...c, error: wish.error });
    else out.set(d.id, { ...out.get(d.id), [at.role]: wish });
  }
  return bad.length > 0 ? { drafts, bad } : { drafts: tidy(out, devices), bad };
}

/** Takes out drafts that want what is planned already. */
export function tidy(drafts: Drafts, devices: Device[]): Drafts {
  const out = new Map<string, Draft>();
  const byId = new Map(devices.map((d) => [d.id, d]));
  for (const [id, draft] of drafts) {
    const d = byId.get(id);
    const left = Object.entries(draft).filter(
      ([part, w]) => !d || (part === "overlay" ? w !== d.plan?.overlay?.text : !same(w as Wish, planned(d, part as Role))),
    );
    if (left.length > 0) out.set(id, Object.fromEntries(left));
  }
  return out;
}

const same = (a: Wish | undefined, b: Wish | undefined) =>
  fields.every(({ field }) => cellText(field, a) === cellText(field, b)) &&
  (a?.profile ?? "") === (b?.profile ?? "") &&
  (a?.audio ?? "") === (b?.audio ?? "") &&
  (a?.quality ?? 0) === (b?.quality ?? 0);

/** The cells below the first row of a range, each with what stands above it in that row. */
export function fillDown(devices: Device[], columns: Column[], drafts: Drafts, r: Range) {
  const [top, bottom] = rangeRows(r);
  const [left, right] = rangeCols(r);
  const cells: { row: number; col: number; text: string }[] = [];
  for (let col = left; col <= right; col++) {
    const at = columns[col]!;
    const text = cellText(at.field, wishOf(devices[top]!, at.role, drafts));
    for (let row = top + 1; row <= bottom; row++) cells.push({ row, col, text });
  }
  return cells;
}

/** A table as spreadsheets put it on the clipboard: tabs between cells, lines between rows, quotes around what holds either. */
export function readTable(text: string): { rows: string[][]; error?: string } {
  const rows: string[][] = [[]];
  let cell = "";
  let quoted = false;
  let at = 0;
  const end = () => {
    rows[rows.length - 1]!.push(cell);
    cell = "";
  };
  const body = text.replace(/\r\n?/g, "\n").replace(/\n+$/, "");
  for (; at < body.length; at++) {
    const c = body[at]!;
    if (quoted && c === '"' && body[at + 1] === '"') {
      cell += '"';
      at++;
    } else if (c === '"' && (quoted || cell === "")) quoted = !quoted;
    else if (!quoted && c === "\t") end();
    else if (!quoted && c === "\n") {
      end();
      rows.push([]);
    } else cell += c;
  }
  if (quoted) return { rows: [], error: "A quote is opened and never closed." };
  end();
  if (rows.length > 5000 || rows.some((r) => r.length > 100)) return { rows: [], error: "That is more than a site has." };
  const width = rows[0]!.length;
  const odd = rows.findIndex((r) => r.length !== width);
  if (odd >= 0) return { rows: [], error: `Row ${odd + 1} has ${rows[odd]!.length} cells, the first has ${width}.` };
  return { rows };
}

/** Where the cells of a pasted table go: one cell fills the whole range, a row of cells every row of it, a table its own size. */
export function pasted(table: string[][], r: Range, rows: number, cols: number) {
  const [top, bottom] = rangeRows(r);
  const [left, right] = rangeCols(r);
  const height = table.length === 1 ? bottom - top + 1 : table.length;
  const width = table[0]!.length === 1 && table.length === 1 ? right - left + 1 : table[0]!.length;
  if (left + width > cols) return { cells: [], error: `The table is ${left + width - cols} columns too wide for where it was pasted.` };
  if (top + height > rows) return { cells: [], error: `The table has ${top + height - rows} rows more than there are cameras below.` };
  const cells: { row: number; col: number; text: string }[] = [];
  for (let y = 0; y < height; y++)
    for (let x = 0; x < width; x++) cells.push({ row: top + y, col: left + x, text: table[y % table.length]![x % table[0]!.length]! });
  return { cells };
}

/** A range as text for a spreadsheet: what is wanted, and where nothing is, what was measured. */
export function copied(devices: Device[], columns: Column[], drafts: Drafts, r: Range): string {
  const [top, bottom] = rangeRows(r);
  const [left, right] = rangeCols(r);
  const lines: string[] = [];
  for (let row = top; row <= bottom; row++) {
    const d = devices[row]!;
    lines.push(
      columns
        .slice(left, right + 1)
        .map(
          (c) =>
            cellText(c.field, wishOf(d, c.role, drafts)) ||
            measuredText(
              c.field,
              d.streams.find((s) => s.role === c.role),
            ),
        )
        .join("\t"),
    );
  }
  return lines.join("\n");
}

/** Drafts in the form in which a browser keeps them over a reload. */
export const keep = (d: Drafts) => JSON.stringify([...d]);

export function kept(text: string | null): Drafts {
  try {
    const list = JSON.parse(text ?? "[]") as [string, Draft][];
    return Array.isArray(list) ? new Map(list) : new Map();
  } catch {
    return new Map();
  }
}
