import { Link } from "react-router";
import type { Target } from "@/api/client";
import { countsOf, endless } from "@/parts/patch";
import { cellWidth, nameWidth } from "./MatrixRow";

/** The targets across the top of the matrix, each with what is free on it. */
export function MatrixHead({ targets, site, at }: { targets: Target[]; site: string; at: number }) {
  return (
    <div role="row" aria-rowindex={1} className="sticky top-0 z-20 flex border-b-2 border-b-ink bg-sheet">
      <div
        role="columnheader"
        className="sticky left-0 z-10 flex items-end border-r bg-sheet px-3 pb-1 text-soft"
        style={{ width: nameWidth }}
      >
        Camera
      </div>
      {targets.map((t, i) => {
        const n = countsOf(t);
        return (
          <div
            key={t.id}
            role="columnheader"
            className={`border-r px-2 py-1 ${i === at ? "bg-well" : ""}`}
            style={{ width: cellWidth }}
            title={`${t.name}, ${t.is}`}
          >
            <Link
              tabIndex={-1}
              to={`/sites/${site}/targets/${t.id}`}
              className="line-clamp-2 min-h-9 leading-tight font-semibold hover:underline"
            >
              {t.name}
            </Link>
            <span className="num block text-small text-soft">
              {endless(t) ? `${t.wanted.length} on it` : t.layout ? `${n.free} free` : "not looked at"}
            </span>
          </div>
        );
      })}
    </div>
  );
}
