import { useRef, type ReactNode } from "react";
import type { Device } from "@/api/client";
import { useKeys } from "@/parts/keys";

/** One part of the bench: its name, the key that jumps to it, and how it stands in one word. */
export type Part = { id: string; name: string; key: string; word: string; bad?: boolean; body: ReactNode };

/** How a device's streams stand. */
export function streamsWord(d: Device): [string, boolean] {
  if (d.streams.length === 0) return ["none", false];
  if (d.streams.some((s) => s.proof && !s.proof.ok)) return ["failing", true];
  const n = d.streams.reduce((sum, s) => sum + (s.proof?.ok ? (s.proof.findings?.length ?? 0) : 0), 0);
  if (n > 0) return [n === 1 ? "1 finding" : `${n} findings`, true];
  return d.streams.every((s) => s.proof?.ok) ? ["proven", false] : ["named", false];
}

/** How its sign-in stands. */
export function signInWord(d: Device): [string, boolean] {
  const l = d.latches.find((x) => x.name === "signed_in");
  if (d.next.until && d.at === "signed_in") return ["locked", true];
  if (d.next.action?.startsWith("agree")) return ["unsent", true];
  if (l?.state === "stuck") return ["refused", true];
  return [l?.state === "open" ? "opens" : l?.state === "stale" ? "stale" : "untried", false];
}

/** How it stands on the targets that it is wanted on. */
export function targetsWord(d: Device): [string, boolean] {
  if (d.placements.some((p) => p.diagnosis)) return ["failing", true];
  if (d.placements.length === 0) return ["none", false];
  return [d.placements.every((p) => p.confirmed) ? "arrived" : "waiting", false];
}

/** How it stands on the network. */
export function deviceWord(d: Device): [string, boolean] {
  if (d.conflict) return ["conflict", true];
  if (d.left_at) return ["gone", true];
  if (d.skew_ms) return ["clock", true];
  return [d.latches.some((l) => l.name === "reachable" && l.state === "open") ? "answers" : "heard", false];
}

/** A part's name with the letter of its key underlined. */
function Named({ part: p }: { part: Part }) {
  const at = p.name.toLowerCase().indexOf(p.key);
  return (
    <span className="text-small leading-4">
      {p.name.slice(0, at)}
      <span className="underline decoration-1 underline-offset-2">{p.name[at]}</span>
      {p.name.slice(at + 1)}
    </span>
  );
}

/**
 * The rest of the bench under its picture and next step: one list that scrolls by itself, with a bar to jump to a part by name or by key.
 * Everything stays in the page, so that the browser's search finds it.
 */
export function BenchSections({ parts, first }: { parts: Part[]; first?: ReactNode }) {
  const root = useRef<HTMLDivElement>(null);
  const jump = (id: string) => {
    const to = root.current?.querySelector<HTMLElement>(`[data-part="${id}"]`);
    to?.scrollIntoView({ block: "start" });
    to?.focus({ preventScroll: true });
  };
  useKeys(Object.fromEntries(parts.map((p) => [p.key, () => jump(p.id)])));
  return (
    <>
      <nav aria-label="Parts of the bench" className="z-10 flex shrink-0 border-y bg-sheet max-lg:sticky max-lg:top-0">
        {parts.map((p) => (
          <button
            key={p.id}
            type="button"
            title={`${p.name} (${p.key.toUpperCase()})`}
            onClick={() => jump(p.id)}
            className="flex min-w-0 grow flex-col items-start border-l px-2 py-1 text-left first:border-l-0 first:pl-4 hover:bg-well"
          >
            <Named part={p} />{" "}
            <span className={`truncate text-tiny leading-4 ${p.bad ? "font-semibold text-stuck" : "text-soft"}`}>{p.word}</span>
          </button>
        ))}
      </nav>
      <div ref={root} className="min-h-0 grow lg:overflow-auto">
        {first}
        {parts.map((p) => (
          <div
            key={p.id}
            data-part={p.id}
            tabIndex={-1}
            role="group"
            aria-label={p.name}
            className="scroll-mt-12 outline-none focus-visible:outline-none [&:not(:has(*))]:hidden lg:scroll-mt-0"
          >
            {p.body}
          </div>
        ))}
      </div>
    </>
  );
}
