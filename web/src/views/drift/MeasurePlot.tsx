import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import type { TimeLine } from "@/api/client";
import { useTheme } from "@/parts/theme";
import { scaled, withGaps } from "./timewords";

type Point = TimeLine["measures"][string][number];
type Props = { points: Point[]; what: string; from: string; to: string; moments: TimeLine["moments"] };

const height = 110;

/** One measure over time: its mean as a line, its bounds as a band, and the moments at which something changed as marks. */
export function MeasurePlot({ points, what, from, to, moments }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const theme = useTheme();
  // biome-ignore lint/correctness/useExhaustiveDependencies: the theme changes the colours that are read here
  useEffect(() => {
    const el = box.current;
    if (!el) return;
    const ink = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
    const axis = { stroke: ink("--soft"), grid: { stroke: ink("--hair"), width: 1 }, ticks: { show: false }, font: "12px Recursive Sans" };
    const seconds = (t: string) => Date.parse(t) / 1000;
    const marks = moments.filter((m) => m.kind === "drift").map((m) => seconds(m.at));
    const plotted = withGaps(points);
    const values = (of: "most" | "least" | "mean") => plotted.map((p) => (p.point ? scaled(what, p.point[of]) : null));
    const most = Math.max(...points.map((p) => scaled(what, p.most)), 0);
    const least = Math.min(...points.map((p) => scaled(what, p.least)), 0);
    const u = new uPlot(
      {
        width: el.clientWidth || 300,
        height,
        legend: { show: false },
        cursor: { show: false },
        scales: { x: { min: seconds(from), max: seconds(to) }, y: { range: [least * 1.1, most * 1.15 || 1] } },
        padding: [6, 12, 0, 0],
        axes: [
          { ...axis, size: 22, space: 80, values: (_, ticks) => ticks.map((t) => tick(t, seconds(to) - seconds(from))) },
          { ...axis, size: 52 },
        ],
        series: [
          {},
          { stroke: "transparent", points: { show: false } },
          { stroke: "transparent", points: { show: false } },
          { stroke: ink("--open"), width: 2, points: { show: points.length < 60, size: 5, fill: ink("--open") } },
        ],
        bands: [{ series: [1, 2], fill: `color-mix(in srgb, ${ink("--open")} 22%, transparent)` }],
        hooks: { draw: [(p) => drawMarks(p, marks, ink("--brass"))] },
      },
      [plotted.map((p) => p.at), values("most"), values("least"), values("mean")],
      el,
    );
    const size = new ResizeObserver(() => u.setSize({ width: el.clientWidth, height }));
    size.observe(el);
    return () => {
      size.disconnect();
      u.destroy();
    };
  }, [points, what, from, to, moments, theme]);
  const last = points.at(-1);
  return (
    <>
      <div ref={box} aria-hidden data-measure={what} />
      <p className="sr-only">{last ? `Last measured: ${scaled(what, last.mean)}` : "Nothing was measured"}</p>
    </>
  );
}

/** A mark of the time axis: the time of a day, or the day of what is longer. */
function tick(seconds: number, length: number) {
  const at = new Date(seconds * 1000);
  if (length <= 2 * 86400) return at.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
  const midnight = at.getHours() === 0 && at.getMinutes() === 0;
  return midnight || length > 20 * 86400 ? at.toLocaleDateString("en-GB", { day: "numeric", month: "short" }) : `${at.getHours()} h`;
}

/** Draws a line through the plot where something changed. */
function drawMarks(p: uPlot, marks: number[], colour: string) {
  const { top, height: tall, left, width } = p.bbox;
  p.ctx.save();
  p.ctx.strokeStyle = colour;
  p.ctx.lineWidth = devicePixelRatio;
  p.ctx.setLineDash([4 * devicePixelRatio, 3 * devicePixelRatio]);
  for (const m of marks) {
    const x = p.valToPos(m, "x", true);
    if (x < left || x > left + width) continue;
    p.ctx.beginPath();
    p.ctx.moveTo(x, top);
    p.ctx.lineTo(x, top + tall);
    p.ctx.stroke();
  }
  p.ctx.restore();
}
