/** What the record can be filtered by. */
export const fields = ["person", "act", "site", "device", "text", "from", "to"] as const;
export type Field = (typeof fields)[number];

/** The query of the API for what stands in the page's address. Days there are this browser's; the last one is still in it. */
export function queryOf(params: URLSearchParams): Partial<Record<Field, string>> {
  const out: Partial<Record<Field, string>> = {};
  for (const f of fields) {
    const value = params.get(f)?.trim();
    if (!value) continue;
    if (f !== "from" && f !== "to") {
      out[f] = value;
      continue;
    }
    const [year, month, date] = value.split("-").map(Number);
    const at = new Date(year ?? NaN, (month ?? NaN) - 1, (date ?? NaN) + (f === "to" ? 1 : 0));
    if (!Number.isNaN(at.getTime())) out[f] = at.toISOString();
  }
  return out;
}
