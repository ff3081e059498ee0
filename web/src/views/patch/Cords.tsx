import { useEffect, useRef } from "react";
import type { CordState } from "@/parts/patch";

/** A cord to draw: from a height at the left to one at the right, both in pixels of the gutter; relay says that it goes through one. */
export type Line = { key: string; from: number; to: number; state: CordState; dim: boolean; hot: boolean; relay: boolean };

/** The width of the gutter between the columns, in pixels. */
export const gutter = 200;

/** How far the canvas reaches over the columns beside the gutter, so that plugs stand in their sockets. */
export const reach = 36;

/**
 * The cords of the patch bench, on one canvas: five hundred of them are drawn anew while one is dragged. A cord hangs through a little; one
 * that is confirmed is a whole cord, one that waits is dashed, and one that is broken ends in two frayed ends with a gap between. One that
 * goes through a relay has a box in its middle.
 */
export function Cords({
  lines,
  width,
  height,
  loose,
}: {
  lines: Line[];
  width: number;
  height: number;
  loose?: { from: number; x: number; y: number };
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const c = canvas.current;
    const ctx = c?.getContext("2d");
    if (!c || !ctx) return;
    const frame = requestAnimationFrame(() => {
      const scale = devicePixelRatio || 1;
      if (c.width !== Math.round(width * scale) || c.height !== Math.round(height * scale)) {
        c.width = Math.round(width * scale);
        c.height = Math.round(height * scale);
      }
      const css = getComputedStyle(document.documentElement);
      const ink = {
        confirmed: css.getPropertyValue("--open"),
        waiting: css.getPropertyValue("--soft"),
        stale: css.getPropertyValue("--brass-text"),
        broken: css.getPropertyValue("--stuck"),
      };
      const paper = css.getPropertyValue("--paper");
      ctx.setTransform(scale, 0, 0, scale, 0, 0);
      ctx.clearRect(0, 0, width, height);
      ctx.lineCap = "round";
      const away = (l: Line) => !inSight(l.from, height) || !inSight(l.to, height);
      for (const l of lines) if (away(l) && !l.hot) stub(ctx, l, width, height, ink[l.state], l.dim ? 0.14 : 1);
      for (const l of lines) if (l.dim && !away(l)) draw(ctx, l, width, ink[l.state], paper, 0.14);
      for (const l of lines) if (!l.dim && !l.hot && !away(l)) draw(ctx, l, width, ink[l.state], paper, 1);
      for (const l of lines) if (l.hot) draw(ctx, l, width, ink[l.state], paper, 1);
      if (loose) {
        ctx.globalAlpha = 1;
        ctx.strokeStyle = css.getPropertyValue("--ink");
        ctx.lineWidth = 5;
        ctx.setLineDash([]);
        curve(ctx, 16, loose.from, loose.x + reach, loose.y);
        ctx.stroke();
        plug(ctx, loose.x + reach, loose.y, css.getPropertyValue("--ink"), 1);
      }
    });
    return () => cancelAnimationFrame(frame);
  }, [lines, width, height, loose]);
  return <canvas ref={canvas} className="pointer-events-none absolute top-0 z-10" style={{ left: -reach, width, height }} aria-hidden />;
}

/** Whether a height lies in a stage of a height. */
export const inSight = (y: number, height: number) => y >= 0 && y <= height;

/** The end of a cord whose other end is out of sight: its plug, and a short piece that leads up or down. */
function stub(ctx: CanvasRenderingContext2D, l: Line, width: number, height: number, color: string, alpha: number) {
  const left = inSight(l.from, height);
  const y = left ? l.from : l.to;
  if (!inSight(y, height)) return;
  const up = (left ? l.to : l.from) < y ? -1 : 1;
  const x = left ? 26 : width - 20;
  const way = left ? 1 : -1;
  ctx.globalAlpha = alpha;
  ctx.setLineDash(l.state === "waiting" ? [4, 4] : []);
  ctx.strokeStyle = color;
  ctx.lineWidth = 2.5;
  ctx.beginPath();
  ctx.moveTo(x, y);
  ctx.quadraticCurveTo(x + way * 22, y, x + way * 24, y + up * 14);
  ctx.stroke();
  ctx.setLineDash([]);
  plug(ctx, x, y, color, way);
  ctx.globalAlpha = 1;
}

/** A cord between two points: it leaves its jacks level, and hangs through in proportion to its length. */
function curve(ctx: CanvasRenderingContext2D, x1: number, y1: number, x2: number, y2: number) {
  const sag = Math.min(46, 10 + Math.abs(y2 - y1) / 9);
  const bow = Math.max(40, (x2 - x1) * 0.42);
  ctx.beginPath();
  ctx.moveTo(x1, y1);
  ctx.bezierCurveTo(x1 + bow, y1 + sag, x2 - bow, y2 + sag, x2, y2);
}

/** The plug at an end of a cord, seen from the side. */
function plug(ctx: CanvasRenderingContext2D, x: number, y: number, color: string, way: 1 | -1) {
  ctx.fillStyle = color;
  ctx.beginPath();
  ctx.roundRect(x - (way === 1 ? 12 : 0), y - 4.5, 12, 9, 2.5);
  ctx.fill();
}

/** The box of a relay, with an arrow through it. */
function box(ctx: CanvasRenderingContext2D, x: number, y: number, color: string, paper: string) {
  ctx.lineWidth = 2.5;
  ctx.strokeStyle = color;
  ctx.fillStyle = paper;
  ctx.beginPath();
  ctx.roundRect(x - 17, y - 11, 34, 22, 3);
  ctx.fill();
  ctx.stroke();
  ctx.lineWidth = 2;
  ctx.beginPath();
  ctx.moveTo(x - 9, y);
  ctx.lineTo(x + 9, y);
  ctx.moveTo(x + 4, y - 5);
  ctx.lineTo(x + 9, y);
  ctx.lineTo(x + 4, y + 5);
  ctx.stroke();
}

function draw(ctx: CanvasRenderingContext2D, l: Line, width: number, color: string, paper: string, alpha: number) {
  const x1 = 24;
  const x2 = width - 18;
  ctx.globalAlpha = alpha;
  ctx.setLineDash([]);
  ctx.strokeStyle = paper; // cords that cross stay apart
  ctx.lineWidth = l.hot ? 8 : 6;
  curve(ctx, x1, l.from, x2, l.to);
  if (l.state === "confirmed" || l.hot) ctx.stroke();
  ctx.strokeStyle = color;
  ctx.lineWidth = l.hot ? 5 : l.state === "confirmed" ? 3.5 : 2.5;
  if (l.state === "waiting") ctx.setLineDash([7, 7]);
  if (l.state === "stale") ctx.setLineDash([14, 5, 2, 5]);
  ctx.stroke();
  ctx.setLineDash([]);
  const mx = (x1 + x2) / 2;
  const my = (l.from + l.to) / 2 + Math.min(46, 10 + Math.abs(l.to - l.from) / 9) * 0.75;
  if (l.relay) box(ctx, mx - (l.state === "broken" ? 34 : 0), my, color, paper);
  if (l.state === "broken") {
    ctx.fillStyle = paper;
    ctx.beginPath();
    ctx.arc(mx, my, 12, 0, 7);
    ctx.fill();
    ctx.lineWidth = 2;
    const slope = Math.atan2((l.to - l.from) * 1.4, x2 - x1);
    for (const side of [-1, 1])
      for (const spread of [-0.5, 0, 0.5]) {
        const a = slope + (side < 0 ? Math.PI : 0);
        ctx.beginPath();
        ctx.moveTo(mx + Math.cos(a) * 12, my + Math.sin(a) * 12);
        ctx.lineTo(mx + Math.cos(a + spread) * 5, my + Math.sin(a + spread) * 5);
        ctx.stroke();
      }
  }
  plug(ctx, x1 + 2, l.from, color, 1);
  plug(ctx, x2 - 2, l.to, color, -1);
  ctx.globalAlpha = 1;
}
