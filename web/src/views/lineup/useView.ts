import { useCallback, useState } from "react";
import { readView, type View } from "./view";

/** The view of a site's line-up; this browser keeps it. */
export function useView(site: string) {
  const key = `line-up ${site}`;
  const [view, set] = useState(() => readView(localStorage.getItem(key)));
  const setView = useCallback(
    (v: View) => {
      localStorage.setItem(key, JSON.stringify(v));
      set(v);
    },
    [key],
  );
  return [view, setView] as const;
}

type Kept = { name: string; view: View };

const read = (): Kept[] => {
  try {
    const list = JSON.parse(localStorage.getItem("line-up views") ?? "[]") as Kept[];
    return list.map((k) => ({ name: String(k.name), view: readView(JSON.stringify(k.view)) }));
  } catch {
    return [];
  }
};

/** The views that this browser has kept by name, for all sites. */
export function useKeptViews() {
  const [kept, set] = useState(read);
  const put = (list: Kept[]) => {
    localStorage.setItem("line-up views", JSON.stringify(list));
    set(list);
  };
  return {
    kept,
    keep: (name: string, view: View) => put([...kept.filter((k) => k.name !== name), { name, view }]),
    drop: (name: string) => put(kept.filter((k) => k.name !== name)),
  };
}
