import { useCallback, useLayoutEffect, useRef, useState } from "react";

/** How far a column is scrolled, and how much of it shows. */
export function useScroll() {
  const ref = useRef<HTMLElement>(null);
  const [at, setAt] = useState({ top: 0, height: 600 });
  const due = useRef(0);
  const read = useCallback(() => {
    const el = ref.current;
    if (el) setAt((a) => (a.top === el.scrollTop && a.height === el.clientHeight ? a : { top: el.scrollTop, height: el.clientHeight }));
  }, []);
  useLayoutEffect(() => {
    read();
    const el = ref.current;
    if (!el || typeof ResizeObserver === "undefined") return;
    const o = new ResizeObserver(read);
    o.observe(el);
    return () => o.disconnect();
  }, [read]);
  return {
    ref,
    ...at,
    on: () => {
      due.current ||= requestAnimationFrame(() => {
        due.current = 0;
        read();
      });
    },
    show: (y: number, h: number) => {
      const el = ref.current;
      if (!el) return;
      if (y < el.scrollTop) el.scrollTop = y - 8;
      else if (y + h > el.scrollTop + el.clientHeight) el.scrollTop = y + h - el.clientHeight + 8;
    },
  };
}
