import { useVirtualizer } from "@tanstack/react-virtual";
import { Fragment, useEffect, useRef, useState, type ReactNode, type RefObject } from "react";

/** What a row of VirtualRows puts onto its tr, by which its height is measured. */
export type Measured = { ref: (row: HTMLTableRowElement | null) => void; "data-index": number; "aria-rowindex": number };

/** The rows of a long table, of which only those in sight are drawn; those above and below stand as one empty row each. */
export function VirtualRows<T>({
  items,
  scroller,
  height,
  id,
  row,
}: {
  items: T[];
  scroller: RefObject<HTMLElement | null>;
  height: number;
  id: (item: T) => string;
  row: (item: T, index: number, measured: Measured) => ReactNode;
}) {
  const top = useRef<HTMLTableRowElement>(null);
  const [margin, setMargin] = useState(0);
  useEffect(() => {
    const box = scroller.current;
    const first = top.current;
    if (box && first) setMargin(first.getBoundingClientRect().top - box.getBoundingClientRect().top + box.scrollTop);
  }, [scroller]);
  const v = useVirtualizer({
    count: items.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => height,
    getItemKey: (i) => id(items[i]!),
    overscan: 15,
    scrollMargin: margin,
    initialRect: { width: 1000, height: 800 },
  });
  const shown = v.getVirtualItems();
  const above = (shown[0]?.start ?? margin) - margin;
  const below = v.getTotalSize() - ((shown.at(-1)?.end ?? margin) - margin);
  return (
    <>
      <tr ref={top} aria-hidden style={{ height: above }} className="border-0" />
      {shown.map((i) => (
        <Fragment key={i.key}>
          {row(items[i.index]!, i.index, { ref: v.measureElement, "data-index": i.index, "aria-rowindex": i.index + 2 })}
        </Fragment>
      ))}
      <tr aria-hidden style={{ height: below }} className="border-0" />
    </>
  );
}
