import type { PackChange } from "@/api/client";
import { Change } from "@/views/drift/Change";

/** How devices and targets differ, each with what the record says was done to it. */
export function ChangeList({ list, none }: { list: PackChange[]; none: string }) {
  if (list.length === 0) return <p className="text-soft">{none}</p>;
  return (
    <ul aria-label="Changes" className="border-t">
      {list.map((c) => (
        <li key={c.id} className="grid gap-x-4 border-b py-2 sm:grid-cols-[12rem_1fr]">
          <span className="font-medium break-words">{c.title}</span>
          <span className="min-w-0 text-small">
            {c.is === "new" && "was not there before"}
            {c.is === "gone" && "is not there any more"}
            {c.fields.map((f) => (
              <Change key={`${f.field} ${f.subject}`} change={f} />
            ))}
            {(c.reasons ?? []).map((r) => (
              <span key={`${r.at}${r.action}`} className="block text-soft">
                {new Date(r.at).toLocaleString()} · {r.by}: {r.action} {r.after}
              </span>
            ))}
          </span>
        </li>
      ))}
    </ul>
  );
}
