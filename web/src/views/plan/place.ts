import type { Mark } from "@/api/siteplans";

/** How a plan is looked at: its upper left corner in the window, in pixels, and how large a pixel of it is drawn. */
export type Look = { x: number; y: number; k: number };

const least = 0.05;
const most = 8;

/** The look that shows a whole picture in a window, with a little room around. */
export function whole(picture: { width: number; height: number }, window: { width: number; height: number }): Look {
  const k = Math.max(least, Math.min(window.width / picture.width, window.height / picture.height) * 0.96);
  return { k, x: (window.width - picture.width * k) / 2, y: (window.height - picture.height * k) / 2 };
}

/** Zoomed by a factor, so that what lies under a point of the window stays under it. */
export function zoomed({ x, y, k }: Look, by: number, at: { x: number; y: number }): Look {
  const next = Math.max(least, Math.min(most, k * by));
  return { k: next, x: at.x - ((at.x - x) * next) / k, y: at.y - ((at.y - y) * next) / k };
}

/** Where a point of the window lies on a picture, as shares of its sides, and never beside it. */
export function shareAt({ x, y, k }: Look, picture: { width: number; height: number }, at: { x: number; y: number }) {
  const within = (v: number) => Math.max(0, Math.min(1, v));
  return { x: within((at.x - x) / k / picture.width), y: within((at.y - y) / k / picture.height) };
}

/** The wedge that a camera looks into, as a path around the origin; a whole circle from 360 degrees on. */
export function wedge({ direction, view = 70 }: Pick<Mark, "direction" | "view">, radius: number): string {
  if (direction === undefined) return "";
  if (view >= 360) return `M0 ${-radius}A${radius} ${radius} 0 1 1 0 ${radius}A${radius} ${radius} 0 1 1 0 ${-radius}Z`;
  const at = (degrees: number) => {
    const a = ((degrees - 90) * Math.PI) / 180;
    return `${(radius * Math.cos(a)).toFixed(1)} ${(radius * Math.sin(a)).toFixed(1)}`;
  };
  return `M0 0L${at(direction - view / 2)}A${radius} ${radius} 0 ${view > 180 ? 1 : 0} 1 ${at(direction + view / 2)}Z`;
}
