import { useSyncExternalStore } from "react";

export type Theme = "day" | "night";

const subscribe = (changed: () => void) => {
  const o = new MutationObserver(changed);
  o.observe(document.documentElement, { attributeFilter: ["data-theme"] });
  return () => o.disconnect();
};

export const useTheme = () => useSyncExternalStore(subscribe, () => (document.documentElement.dataset.theme as Theme) ?? "day");

export function setTheme(theme: Theme) {
  document.documentElement.dataset.theme = theme;
  try {
    localStorage.setItem("theme", theme);
  } catch {
    // without storage the choice lasts until the page is closed
  }
}
