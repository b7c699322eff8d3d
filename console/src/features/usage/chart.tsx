import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { variantColor } from "../../ui/variant";

export interface Series {
  name: string;
  now: number[];
  past: number[]; // the window before, laid under this one
}

/** Chart draws what each variant was given over time; the window before stands under it as
    thin dashes. */
export function Chart({ from, step, series, names }: { from: number; step: number; series: Series[]; names: string[] }) {
  const at = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const box = at.current;
    if (!box || series.length === 0) return;
    const ink = getComputedStyle(box).color;
    const line = getComputedStyle(box).borderTopColor;
    const times = series[0]!.now.map((_, i) => (from + i * step) / 1000);
    const axis = { stroke: ink, grid: { stroke: line, width: 1 }, ticks: { stroke: line } };
    const plot = new uPlot(
      {
        width: box.clientWidth,
        height: 240,
        legend: { show: false },
        cursor: { y: false, drag: { x: false, y: false } },
        scales: { y: { range: (_, __, most) => [0, Math.max(1, most * 1.08)] } },
        axes: [axis, { ...axis, size: 56 }],
        series: [
          {},
          ...series.flatMap((s) => [
            { label: s.name, stroke: variantColor(names, s.name), width: 2, points: { show: false } },
            { label: `${s.name} before`, stroke: variantColor(names, s.name), width: 1, dash: [3, 5], alpha: 0.7, points: { show: false } },
          ]),
        ],
      },
      [times, ...series.flatMap((s) => [s.now, s.past])],
      box,
    );
    const fit = new ResizeObserver(() => plot.setSize({ width: box.clientWidth, height: 240 }));
    fit.observe(box);
    return () => {
      fit.disconnect();
      plot.destroy();
    };
  }, [from, step, series, names]);
  const said = series.map((s) => `${s.name}: ${s.now.reduce((a, b) => a + b, 0).toLocaleString()}`).join(", ");
  return <div ref={at} role="img" aria-label={`decisions over time: ${said}`} className="min-h-60 border-line text-soft" />;
}
