import { Link } from "react-router";
import type { Handover } from "@/api/client";
import { latchNames } from "@/parts/latches";
import { StateSign } from "@/parts/StateSign";
import { useFrame } from "@/parts/useFrame";
import { causeWords } from "./words";

type Row = Handover["progress"][number];

const complete = (r: Row) => !r.latch && r.open.length === 0 && (r.shown ?? 0) === (r.cameras ?? 0);

/** How complete each camera and target is: what is open and what was waived. */
export function Progress({ list }: { list: Row[] }) {
  const { site } = useFrame();
  if (list.length === 0) return null;
  const done = list.filter(complete).length;
  return (
    <section aria-label="Cameras and targets">
      <h2 className="flex items-baseline justify-between border-b pb-1 text-lead font-semibold">
        Cameras and targets
        <span className="num text-small font-normal text-soft">
          {done} of {list.length} complete
        </span>
      </h2>
      <ul className="sm:columns-2 sm:gap-x-8">
        {list.map((r) => (
          <li key={r.id} className="flex min-h-8 break-inside-avoid items-baseline gap-2 border-b py-1">
            <StateSign state={complete(r) ? "confirmed" : "waiting"} />
            <Link
              to={r.target ? `/sites/${site.id}/targets/${r.id}` : `/sites/${site.id}?device=${r.id}`}
              className="min-w-0 grow truncate hover:underline"
            >
              {r.title}
            </Link>
            <span className="text-right text-small text-soft">
              {r.target && (r.cameras ?? 0) > 0 && `${r.shown ?? 0} of ${r.cameras} shown`}
              {!r.target && r.latch && `at ${latchNames[r.latch as keyof typeof latchNames]}`}
              {r.open
                .filter((c) => c !== "unfinished")
                .map((c) => causeWords[c])
                .map((w, i) => `${i > 0 || r.latch ? ", " : ""}${w}`)}
              {(r.passed ?? []).length > 0 && ` · waived: ${r.passed!.map((c) => causeWords[c]).join(", ")}`}
              {complete(r) && !r.target && (r.passed ?? []).length === 0 && <span className="text-open">complete</span>}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
