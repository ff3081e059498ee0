import { type RefObject, useCallback, useEffect, useState } from "react";
import type { Hand } from "@/parts/patch";

/** What is carried, by what, and where: x and y in the stage, over is the key of the row below it. */
export type Carried = Hand & { by: "pointer" | "keys"; x: number; y: number; over?: string };

type Point = { x: number; y: number };

/**
 * What is carried on a bench. While the pointer carries it, it follows the pointer and is let go with it, and Escape puts it back; what the
 * keys carry is let go by the row that has the focus. under tells the row below a point of the window.
 */
export function useHand<R extends { key: string }>(
  stage: RefObject<HTMLElement | null>,
  under: (clientX: number, clientY: number) => R | undefined,
  letGo: (hand: Carried, row: R | undefined) => void,
) {
  const [hand, setHand] = useState<Carried | null>(null);
  const at = useCallback(
    (e: { clientX: number; clientY: number }): Point => {
      const box = stage.current!.getBoundingClientRect();
      return { x: e.clientX - box.left, y: e.clientY - box.top };
    },
    [stage],
  );
  const drop = useCallback(
    (h: Carried, row: R | undefined) => {
      setHand(null);
      letGo(h, row);
    },
    [letGo],
  );
  useEffect(() => {
    if (hand?.by !== "pointer") return;
    const move = (e: PointerEvent) => {
      const point = at(e);
      const over = under(e.clientX, e.clientY)?.key;
      setHand((h) => h && { ...h, ...point, over });
    };
    const up = (e: PointerEvent) => drop({ ...hand, ...at(e) }, under(e.clientX, e.clientY));
    const putBack = (e: KeyboardEvent) => e.key === "Escape" && setHand(null);
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
    window.addEventListener("keydown", putBack);
    return () => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
      window.removeEventListener("keydown", putBack);
    };
  }, [hand, at, drop, under]);
  return { hand, setHand, drop, at };
}
