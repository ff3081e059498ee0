import { useCallback, useEffect, useMemo, useState } from "react";
import { type Drafts, keep, kept } from "./matrix";

type History = { past: Drafts[]; now: Drafts; future: Drafts[] };

/** What was typed into the matrix of a site and not sent yet, with undo. It survives a reload of the page. */
export function useDrafts(site: string) {
  const place = `streams-${site}`;
  const [h, setHistory] = useState<History>(() => ({ past: [], now: kept(sessionStorage.getItem(place)), future: [] }));
  useEffect(() => {
    if (h.now.size > 0) sessionStorage.setItem(place, keep(h.now));
    else sessionStorage.removeItem(place);
  }, [h.now, place]);
  const set = useCallback(
    (now: Drafts) => setHistory((x) => (now === x.now ? x : { past: [...x.past.slice(-99), x.now], now, future: [] })),
    [],
  );
  const undo = useCallback(
    () => setHistory((x) => (x.past.length === 0 ? x : { past: x.past.slice(0, -1), now: x.past.at(-1)!, future: [x.now, ...x.future] })),
    [],
  );
  const redo = useCallback(
    () => setHistory((x) => (x.future.length === 0 ? x : { past: [...x.past, x.now], now: x.future[0]!, future: x.future.slice(1) })),
    [],
  );
  return useMemo(
    () => ({ drafts: h.now, set, undo, redo, canUndo: h.past.length > 0, canRedo: h.future.length > 0 }),
    [h, set, undo, redo],
  );
}
