import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import type { Costs } from "@/api/client";
import { useTheme } from "@/parts/theme";

/** The days that a curve gives for a factor of the bitrate, between its points as the logarithmic plot draws it. */
export function daysAt(curve: Costs["curve"], factor: number): number {
  const after = curve.findIndex((p) => p.factor >= factor);
  const [a, b] = after < 0 ? [curve.at(-1), curve.at(-1)] : [curve[Math.max(0, after - 1)], curve[after]];
  if (!a || !b) return 0;
  const log = (x: number) => Math.log(Math.max(x, 0.01));
  const part = a.factor === b.factor ? 0 : Math.min(1, Math.max(0, (log(factor) - log(a.factor)) / (log(b.factor) - log(a.factor))));
  return Math.exp(log(a.days) + part * (log(b.days) - log(a.days)));
}

/** Days of recording over the bitrate of all that is recorded; the line that can be dragged is a what-if. */
export function CostPlot({ costs, factor, onFactor }: { costs: Costs; factor: number; onFactor: (f: number) => void }) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const at = useRef({ factor, curve: costs.curve });
  const told = useRef(onFactor);
  told.current = onFactor;
  const theme = useTheme();
  const total = costs.kbps / 1000;
  at.current = { factor, curve: costs.curve };

  // biome-ignore lint/correctness/useExhaustiveDependencies: the theme changes the colours that are read here
  useEffect(() => {
    const el = box.current;
    if (!el) return;
    const ink = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
    const label = { labelSize: 16, labelGap: 0, labelFont: "12px Recursive Sans" };
    const axis = {
      ...label,
      stroke: ink("--soft"),
      grid: { stroke: ink("--hair"), width: 1 },
      ticks: { show: false },
      font: "12px Recursive Sans",
    };
    const u = new uPlot(
      {
        width: el.clientWidth || 300,
        height: 170,
        legend: { show: false },
        cursor: { show: false },
        scales: { x: { time: false, distr: 3, log: 2 }, y: { distr: 3, log: 10 } },
        padding: [8, 16, 0, 0],
        axes: [
          {
            ...axis,
            label: "Mbit/s recorded",
            size: 26,
            values: (_, v) => v.map((x) => (x === null ? "" : String(Number(x.toPrecision(2))))),
          },
          { ...axis, label: "Days", size: 38, values: (_, v) => v.map((x) => (x === null ? "" : String(Number(x.toPrecision(2))))) },
        ],
        series: [{}, { stroke: ink("--open"), width: 2, points: { show: false } }],
        hooks: {
          draw: [
            (p) => {
              const x = p.valToPos(total * at.current.factor, "x", true);
              const y = p.valToPos(daysAt(at.current.curve, at.current.factor), "y", true);
              const { top, height } = p.bbox;
              p.ctx.save();
              p.ctx.strokeStyle = ink("--brass");
              p.ctx.fillStyle = ink("--brass");
              p.ctx.lineWidth = 2 * devicePixelRatio;
              p.ctx.beginPath();
              p.ctx.moveTo(x, top);
              p.ctx.lineTo(x, top + height);
              p.ctx.stroke();
              p.ctx.beginPath();
              p.ctx.arc(x, y, 6 * devicePixelRatio, 0, 7);
              p.ctx.fill();
              p.ctx.restore();
            },
          ],
        },
      },
      [[], []],
      el,
    );
    plot.current = u;
    const drag = (e: PointerEvent) => {
      if (e.type === "pointermove" && e.buttons !== 1) return;
      const x = u.posToVal(e.clientX - u.over.getBoundingClientRect().left, "x");
      told.current(Math.min(4, Math.max(0.125, x / (total || 1))));
    };
    u.over.style.cursor = "ew-resize";
    u.over.addEventListener("pointerdown", drag);
    u.over.addEventListener("pointermove", drag);
    const size = new ResizeObserver(() => u.setSize({ width: el.clientWidth, height: 170 }));
    size.observe(el);
    return () => {
      size.disconnect();
      u.destroy();
    };
  }, [theme, total]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another theme has made another plot, which is empty
  useEffect(() => {
    plot.current?.setData([costs.curve.map((p) => p.factor * total), costs.curve.map((p) => Math.max(p.days, 0.01))]);
  }, [costs, total, theme]);
  useEffect(() => {
    if (factor) plot.current?.redraw(false);
  }, [factor]);
  return <div ref={box} aria-hidden data-cost-plot />;
}
