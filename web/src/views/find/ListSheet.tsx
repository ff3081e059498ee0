import { useState } from "react";
import { useAddressList, useReadList } from "@/api/actions";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

const kinds = [
  ["", "left out"],
  ["name", "name"],
  ["addr", "address"],
  ["mac", "MAC"],
  ["serial", "serial number"],
  ["note", "note"],
] as const;

type Props = { site: string; file: File; onClose: () => void; onBrought: (warnings: string[]) => void };

/** A list that somebody has left: what each column is taken for, which can be corrected, and how many devices it expects. */
export function ListSheet({ site, file, onClose, onBrought }: Props) {
  const [columns, setColumns] = useState<string[]>();
  const read = useReadList(site, file, columns);
  const { bring } = useAddressList(site);
  const view = read.data;
  const is = view?.columns.map((c) => c.is as string) ?? [];
  const change = (n: number, kind: string) => setColumns(is.map((k, i) => (i === n ? kind : k === kind ? "" : k)));
  return (
    <Sheet title={`What stands in ${file.name}`} open onOpenChange={(o) => !o && onClose()} wide>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          bring.mutate(
            { file, columns: view?.columns.length ? is : undefined },
            {
              onSuccess: (out) => {
                onBrought(out.warnings);
                onClose();
              },
            },
          );
        }}
      >
        {view && view.columns.length > 0 && (
          <div className="overflow-x-auto">
            <table className="w-full text-left text-small">
              <thead>
                <tr>
                  {view.columns.map((c, n) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: a column is known by its place
                    <th key={n} className="p-1 align-bottom font-normal">
                      <span className="block truncate text-soft">{c.heading || `Column ${n + 1}`}</span>
                      <select
                        aria-label={`Column ${n + 1} holds`}
                        value={c.is}
                        onChange={(e) => change(n, e.target.value)}
                        className={`h-8 rounded-md border bg-sheet px-1.5 ${c.is ? "font-semibold" : "text-soft"}`}
                      >
                        {kinds.map(([k, words]) => (
                          <option key={k} value={k}>
                            {words}
                          </option>
                        ))}
                      </select>
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {[0, 1, 2, 3].map((row) => (
                  <tr key={row} className="border-t">
                    {view.columns.map((c, n) => (
                      // biome-ignore lint/suspicious/noArrayIndexKey: a column is known by its place
                      <td key={n} className={`max-w-48 truncate p-1 ${c.is ? "" : "text-soft line-through decoration-hair"}`}>
                        {c.samples[row]}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
        {view && (
          <p role="status">
            {view.problem ?? (view.rows === 1 ? "1 device is expected." : `${view.rows} devices are expected.`)}
            {view.warnings.length > 0 && (
              <span className="block text-small text-soft">
                {view.warnings.slice(0, 3).join(" ")} {view.warnings.length > 3 && `And ${view.warnings.length - 3} more.`}
              </span>
            )}
          </p>
        )}
        <Foot error={bring.error ?? read.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={!view || !!view.problem || view.rows === 0 || bring.isPending}>
            Expect them
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
