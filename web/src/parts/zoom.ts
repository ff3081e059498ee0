import { useEffect, useRef, useState, type RefObject } from "react";

export type View = { scale: number; x: number; y: number };

const whole: View = { scale: 1, x: 0, y: 0 };
const most = 8;

/** The view after zooming by a factor so that the point at (px, py) of a frame of w by h stays where it is. */
export function zoomed(v: View, by: number, px: number, py: number, w: number, h: number): View {
  const scale = Math.min(most, Math.max(1, v.scale * by));
  const k = scale / v.scale;
  return within({ scale, x: px - (px - v.x) * k, y: py - (py - v.y) * k }, w, h);
}

/** Keeps a view within its frame, so that no edge comes into it. */
export function within(v: View, w: number, h: number): View {
  const clamp = (at: number, size: number) => Math.min(0, Math.max(size - size * v.scale, at));
  return { scale: v.scale, x: clamp(v.x, w), y: clamp(v.y, h) };
}

/** Zooming into a picture with wheel or pinch and moving it about; a double click shows all of it again. */
export function useZoom(frame: RefObject<HTMLElement | null>) {
  const [view, setView] = useState(whole);
  const latest = useRef(view);
  latest.current = view;
  useEffect(() => {
    const el = frame.current;
    if (!el) return;
    const points = new Map<number, { x: number; y: number }>();
    const spot = (e: { clientX: number; clientY: number }) => {
      const r = el.getBoundingClientRect();
      return { x: e.clientX - r.left, y: e.clientY - r.top, w: r.width, h: r.height };
    };
    const wheel = (e: WheelEvent) => {
      const by = Math.exp(-e.deltaY / 400);
      if (latest.current.scale === 1 && by <= 1) return; // the page scrolls on
      e.preventDefault();
      const p = spot(e);
      setView((v) => zoomed(v, by, p.x, p.y, p.w, p.h));
    };
    const down = (e: PointerEvent) => points.set(e.pointerId, { x: e.clientX, y: e.clientY });
    const move = (e: PointerEvent) => {
      const before = points.get(e.pointerId);
      if (!before) return;
      const p = spot(e);
      const other = [...points].find(([id]) => id !== e.pointerId)?.[1];
      points.set(e.pointerId, { x: e.clientX, y: e.clientY });
      if (other) {
        const apart = (q: { x: number; y: number }) => Math.hypot(q.x - other.x, q.y - other.y);
        const mid = spot({ clientX: (e.clientX + other.x) / 2, clientY: (e.clientY + other.y) / 2 });
        setView((v) => zoomed(v, apart({ x: e.clientX, y: e.clientY }) / Math.max(1, apart(before)), mid.x, mid.y, p.w, p.h));
      } else if (latest.current.scale > 1) {
        setView((v) => within({ ...v, x: v.x + e.clientX - before.x, y: v.y + e.clientY - before.y }, p.w, p.h));
      }
    };
    const up = (e: PointerEvent) => void points.delete(e.pointerId);
    const all = () => setView(whole);
    el.addEventListener("wheel", wheel, { passive: false });
    el.addEventListener("pointerdown", down);
    el.addEventListener("pointermove", move);
    el.addEventListener("pointerup", up);
    el.addEventListener("pointercancel", up);
    el.addEventListener("pointerleave", up);
    el.addEventListener("dblclick", all);
    return () => {
      el.removeEventListener("wheel", wheel);
      el.removeEventListener("pointerdown", down);
      el.removeEventListener("pointermove", move);
      el.removeEventListener("pointerup", up);
      el.removeEventListener("pointercancel", up);
      el.removeEventListener("pointerleave", up);
      el.removeEventListener("dblclick", all);
    };
  }, [frame]);
  return {
    view,
    by: (factor: number) => {
      const el = frame.current;
      if (el) setView((v) => zoomed(v, factor, el.clientWidth / 2, el.clientHeight / 2, el.clientWidth, el.clientHeight));
    },
    style: {
      transform: view.scale === 1 ? undefined : `translate(${view.x}px, ${view.y}px) scale(${view.scale})`,
      transformOrigin: "0 0",
      // A finger scrolls the page until the picture is zoomed; two fingers always zoom.
      touchAction: view.scale === 1 ? "pan-x pan-y" : "none",
    } as const,
  };
}
