import { type KeyboardEvent, type RefObject, useEffect, useRef } from "react";

/**
 * Keeps one row of a virtual grid in the order of the Tab key, and moves the focus with it. `at` is its index; a row that carries
 * `data-index` is found again when scrolling has drawn it.
 */
export function useGridFocus(box: RefObject<HTMLElement | null>, at: number) {
  const before = useRef(at);
  useEffect(() => {
    if (before.current === at) return;
    before.current = at;
    const active = document.activeElement;
    if (!active || !box.current?.contains(active) || active instanceof HTMLInputElement) return;
    const row = () => box.current?.querySelector<HTMLElement>(`[data-index="${at}"]`);
    if (row()) row()?.focus({ preventScroll: true });
    else requestAnimationFrame(() => row()?.focus({ preventScroll: true }));
  }, [at, box]);
}

/** What a key pressed on a row does. A key that was meant for something within the row does nothing here. */
export const onRow = (keys: Record<string, () => void>) => (e: KeyboardEvent<HTMLElement>) => {
  if (e.target !== e.currentTarget) return;
  const act = keys[e.key];
  if (!act) return;
  e.preventDefault();
  e.stopPropagation();
  act();
};
