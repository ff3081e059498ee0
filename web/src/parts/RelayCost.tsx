import type { Cost } from "@/api/relays";

/** What a stream that is served on costs its worker, against what is free there; why it cannot be, where it cannot. */
export function RelayCost({ cost: c }: { cost: Cost }) {
  const budget = c.budget ?? 0;
  const part = (cores: number) => `${Math.min(100, (cores / budget) * 100)}%`;
  return (
    <>
      {c.words === "as it comes" && !c.problem && <>next to no processor time: the packets go on as they come</>}
      {c.words !== "as it comes" && !c.known && !c.problem && (
        <>not known yet: the worker has not measured itself, or the stream is not proven</>
      )}
      {c.words !== "as it comes" && c.known && (
        <>
          <span className="num">{c.cores.toFixed(2)}</span> of a processor core;{" "}
          <span className="num">
            {(c.free ?? 0).toFixed(2)} of {budget.toFixed(2)}
          </span>{" "}
          for conversions are free
          <span className="mt-1 flex h-2 max-w-80 overflow-hidden rounded-sm bg-well" aria-hidden>
            <span className="h-full bg-soft" style={{ width: part(budget - (c.free ?? 0)) }} />
            <span className={`h-full ${c.problem ? "bg-stuck" : "bg-open"}`} style={{ width: part(c.cores) }} />
          </span>
        </>
      )}
      {c.problem && (
        <span role="status" className="mt-2 block border-l-4 border-stuck bg-well px-3 py-2 text-small">
          <strong>{c.problem}</strong> {c.fix}
        </span>
      )}
    </>
  );
}
