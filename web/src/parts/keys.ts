import { useEffect, useRef } from "react";

/** Every key of the application, for the help sheet. */
export const keyHelp: [string, string][] = [
  ["↑ ↓", "move through the list"],
  ["Space", "select or unselect a row"],
  ["A", "select all that are shown"],
  ["Enter", "to the bench"],
  ["O", "open latches of the selection, else of the row"],
  ["P", "place the selection on a recorder"],
  ["R", "name the camera"],
  ["/", "search"],
  ["S", "sweep the site"],
  ["1 2 3", "Line-up, Find, Keyring"],
  ["Esc", "clear the selection, close the bench"],
  ["Ctrl K", "all commands"],
  ["?", "these keys"],
];

/** Listens for single keys, except while somebody types or a sheet is open. */
export function useKeys(keys: Record<string, (e: KeyboardEvent) => void>) {
  const latest = useRef(keys);
  latest.current = keys;
  useEffect(() => {
    const on = (e: KeyboardEvent) => {
      const t = e.target as HTMLElement;
      if (e.ctrlKey || e.metaKey || e.altKey || e.defaultPrevented) return;
      if (t.closest("input:not([type=checkbox]), textarea, select, [role=dialog], [role=menu], [contenteditable]")) return;
      // Space and Enter belong to the button that has the focus.
      if ((e.key === " " || e.key === "Enter") && t.closest("button, a, input")) return;
      const fn = latest.current[e.key.length === 1 ? e.key.toLowerCase() : e.key];
      if (fn) {
        e.preventDefault();
        fn(e);
      }
    };
    window.addEventListener("keydown", on);
    return () => window.removeEventListener("keydown", on);
  }, []);
}
