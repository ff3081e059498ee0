import { Problem } from "@/api/client";

/** An error in place: what happened, why, what to do. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  const p = error instanceof Problem ? error : null;
  return (
    <div role="alert" className="border-l-4 border-stuck bg-sheet px-3 py-2">
      <p>{p?.message ?? String(error)}</p>
      {p?.fix && <p className="text-soft">{p.fix}</p>}
    </div>
  );
}
