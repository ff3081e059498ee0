import type { Device } from "@/api/client";
import { cellText, fields, measuredText, planned, signOf } from "@/parts/plan";
import type { Range } from "@/parts/grid";
import { type Column, type Drafts, wishOf } from "./matrix";
import { offered } from "./StreamsRow";

const withUnit = (text: string, unit: string) => (/^[\d.]+$/.test(text) ? text + unit : text);

/** The cell in hand in words: whose plan it is, what was measured, what can be picked. */
export function StreamsInspector({
  device: d,
  columns,
  range,
  count,
  drafts,
  bad,
  pick,
}: {
  device: Device | undefined;
  columns: Column[];
  range: Range;
  count: number;
  drafts: Drafts;
  bad: string | null;
  pick: (text: string) => void;
}) {
  const c = columns[range.toCol];
  if (!d || !c) return null;
  const f = fields.find((x) => x.field === c.field)!;
  const wish = wishOf(d, c.role, drafts);
  const changed = cellText(c.field, wish) !== cellText(c.field, planned(d, c.role));
  const plan = cellText(c.field, wish);
  const got = measuredText(
    c.field,
    d.streams.find((s) => s.role === c.role),
  );
  const tune = d.tunes?.[c.role];
  return (
    <div
      className="flex min-h-11 shrink-0 flex-wrap items-center gap-x-4 gap-y-1 border-t bg-sheet px-4 py-1.5 text-small"
      aria-live="polite"
    >
      {bad ? (
        <span role="alert" className="text-stuck">
          {bad}
        </span>
      ) : (
        <>
          <span className="font-medium">
            {count > 1 ? `${count} cameras` : d.name}, {c.role} stream, {f.long.toLowerCase()}
          </span>
          <span>
            {plan ? (
              <>
                wanted <span className="mono">{withUnit(plan, f.unit)}</span>{" "}
                <span className="text-soft">({changed ? "typed, not sent" : (d.plan?.[c.role]?.whose ?? "")})</span>
              </>
            ) : (
              <span className="text-soft">left as it is</span>
            )}
          </span>
          {got && (
            <span>
              measured <span className="mono">{withUnit(got, f.unit)}</span>
            </span>
          )}
          {!changed && signOf(d, c.role, c.field) === "differs" && (
            <span className="text-stuck">differs{tune?.sent ? " although it was sent" : ", not sent yet"}</span>
          )}
          {offered(d, c).length > 0 && (
            <span className="flex flex-wrap gap-1" role="group" aria-label={`Pick the ${f.long.toLowerCase()}`}>
              {offered(d, c).map((o) => (
                <button key={o} type="button" onClick={() => pick(o)} className="mono rounded-sm border px-1.5 hover:bg-well">
                  {o}
                </button>
              ))}
            </span>
          )}
        </>
      )}
    </div>
  );
}
