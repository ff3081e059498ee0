import { type PointerEvent as ReactPointer, useCallback, useEffect, useRef } from "react";
import { type Look, shareAt, whole, zoomed } from "./place";

type Picture = { id: string; width: number; height: number };
type At = { clientX: number; clientY: number };

/**
 * How a plan is looked at. It is dragged and zoomed by the style of its sheet alone: nothing is drawn anew, however many cameras are on it.
 */
export function usePlanLook(plan: Picture) {
  const box = useRef<HTMLDivElement>(null);
  const sheet = useRef<HTMLDivElement>(null);
  const look = useRef<Look>({ x: 0, y: 0, k: 1 });
  const { id, width, height } = plan;
  const show = useCallback((to: Look) => {
    const at = sheet.current;
    // The marks stand still while the plan is dragged: they hear of another size alone.
    if (at && (to.k !== look.current.k || !at.style.transform)) at.style.setProperty("--k", String(to.k));
    if (at) at.style.transform = `translate(${to.x}px, ${to.y}px) scale(${to.k})`;
    look.current = to;
  }, []);
  /** Says that the plan is being dragged, so that the browser moves what it has drawn, or is not any more. */
  const dragging = useCallback((on: boolean) => {
    if (sheet.current) sheet.current.style.willChange = on ? "transform" : "";
  }, []);
  const fit = useCallback(() => {
    const b = box.current?.getBoundingClientRect();
    if (b) show(whole({ width, height }, b));
  }, [width, height, show]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another plan is shown whole, and news of the same is not
  useEffect(fit, [id]);
  useEffect(() => {
    const b = box.current;
    if (!b) return;
    const wheel = (e: WheelEvent) => {
      e.preventDefault();
      const r = b.getBoundingClientRect();
      show(zoomed(look.current, Math.exp(-e.deltaY / 500), { x: e.clientX - r.left, y: e.clientY - r.top }));
    };
    b.addEventListener("wheel", wheel, { passive: false });
    return () => b.removeEventListener("wheel", wheel);
  }, [show]);
  const zoom = (by: number) => {
    const r = box.current!.getBoundingClientRect();
    show(zoomed(look.current, by, { x: r.width / 2, y: r.height / 2 }));
  };
  /** Where a point of the page lies on the plan. */
  const shareOf = useCallback(
    (e: At) => {
      const r = box.current!.getBoundingClientRect();
      return shareAt(look.current, { width, height }, { x: e.clientX - r.left, y: e.clientY - r.top });
    },
    [width, height],
  );
  /** Follows the pointer until it is let go; a press that hardly moved is told as such. */
  const follow = useCallback((e: ReactPointer, move: (e: PointerEvent) => void, done: (e: PointerEvent, moved: boolean) => void) => {
    const from = { x: e.clientX, y: e.clientY };
    let moved = false;
    const on = (n: PointerEvent) => {
      moved ||= Math.hypot(n.clientX - from.x, n.clientY - from.y) > 4;
      if (moved) move(n);
    };
    const up = (n: PointerEvent) => {
      window.removeEventListener("pointermove", on);
      window.removeEventListener("pointerup", up);
      done(n, moved);
    };
    window.addEventListener("pointermove", on);
    window.addEventListener("pointerup", up);
  }, []);
  return { box, sheet, look, show, dragging, fit, zoom, shareOf, follow };
}
