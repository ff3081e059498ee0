import { useEffect, useRef } from "react";

/** Every key of the application, for the help sheet. */
export const keyHelp: [string, string][] = [
  ["↑ ↓", "move through the list"],
  ["Space", "select or unselect a row"],
  ["A", "select all that are shown"],
  ["Enter", "to the bench"],
  ["O", "open latches of the selection, else of the row"],
  ["P", "place the selection on a target"],
  ["R", "name the camera"],
  ["W", "watch the camera move; with a selection of up to nine, a walk test"],
  ["← →, F", "in Watch: the camera before and the next, freeze; in a walk test, 1 to 9: seen"],
  ["U I T D E", "parts of the bench: URLs, sign-ins, targets, device, evidence (C: a recorder’s channels)"],
  ["/", "search"],
  ["S", "sweep the site"],
  ["1 2 3 4 5 6 7", "Line-up, Find, Streams, Patch, Keyring, Paths, Plan"],
  ["T, ↑ ↓, Enter", "in Patch: take a plug, walk over the slots, drop it; Delete takes a camera off"],
  ["Ctrl D, Ctrl Z", "in Streams: fill down, undo; type into the cells, copy and paste them"],
  ["Esc", "clear the selection, close the bench"],
  ["Ctrl K", "all commands"],
  ["?", "these keys"],
];

const off = "single-keys-off";

/** Whether letters and digits alone are commands; arrows, Enter, Escape and Ctrl K always are (WCAG 2.2, 2.1.4). */
export const singleKeys = () => localStorage.getItem(off) === null;

/** Switches single letters and digits as commands on or off, in this browser. */
export function setSingleKeys(on: boolean) {
  if (on) localStorage.removeItem(off);
  else localStorage.setItem(off, "1");
}

/**
 * Listens for single keys, except while somebody types or a sheet is open. `first` goes before those that listen to the same key
 * elsewhere: a
 * view may need a digit that leads to another view otherwise.
 */
export function useKeys(keys: Record<string, (e: KeyboardEvent) => void>, first = false) {
  const latest = useRef(keys);
  latest.current = keys;
  useEffect(() => {
    const on = (e: KeyboardEvent) => {
      const t = e.target as HTMLElement;
      if (e.ctrlKey || e.metaKey || e.altKey || e.defaultPrevented) return;
      if (t.closest("input:not([type=checkbox]), textarea, select, [role=dialog], [role=menu], [contenteditable]")) return;
      // Space and Enter belong to the button that has the focus.
      if ((e.key === " " || e.key === "Enter") && t.closest("button, a, input")) return;
      if (e.key.length === 1 && e.key !== " " && !singleKeys()) return;
      const fn = latest.current[e.key.length === 1 ? e.key.toLowerCase() : e.key];
      if (fn) {
        e.preventDefault();
        fn(e);
      }
    };
    window.addEventListener("keydown", on, first);
    return () => window.removeEventListener("keydown", on, first);
  }, [first]);
}
