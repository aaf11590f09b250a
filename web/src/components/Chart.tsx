import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { rate } from "../lib/format";
import { scaleOf } from "../lib/scale";
import { useTheme } from "../lib/theme";

const height = 120;

export type Line = { label: string; values: (number | null)[]; dashed?: boolean };

const day = 86_400;

/** How times of an axis are written: days, where there are several. */
const written = (at: number[]) =>
  at.map((t) => {
    const time = new Date(t * 1000);
    return at.at(-1)! - at[0]! >= 2 * day
      ? time.toLocaleDateString("en-GB", { day: "numeric", month: "short" })
      : time.toLocaleTimeString("en-GB");
  });

/** A chart of rates over time; times are seconds since 1970. */
export function Chart({ times, lines, unit, label }: { times: number[]; lines: Line[]; unit: string; label: string }) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  const theme = useTheme();
  const shape = lines.map((l) => l.label + String(l.dashed)).join();
  const data = useRef<uPlot.AlignedData>([[]]);
  data.current = [times, ...lines.map((l) => l.values)];
  const scale = scaleOf(lines.flatMap((l) => l.values));
  const top = useRef(0);
  top.current = Math.max(scale.top * 1.1, 1);

  useEffect(() => {
    const el = box.current;
    if (!el) return;
    // The canvas knows no CSS variables: it is made again with the theme.
    const css = getComputedStyle(document.documentElement);
    const colour = (name: string) => css.getPropertyValue(name).trim();
    const font = `12px ${colour("--font-text")}`;
    const axis = { stroke: colour("--ink-soft"), grid: { stroke: colour("--hair"), width: 1 }, ticks: { show: false }, font };
    const series = shape.split(",").map((s, i) => ({
      label: s.replace(/(true|false|undefined)$/, ""),
      stroke: colour(i === 0 ? "--sea" : "--attention"),
      width: 1.5,
      dash: s.endsWith("true") ? [5, 4] : undefined,
      points: { show: false },
    }));
    const chart = new uPlot(
      {
        width: el.clientWidth,
        height,
        legend: { show: false },
        cursor: { y: false, points: { size: 5 } },
        scales: { y: { range: () => [0, top.current] } },
        series: [{}, ...series],
        axes: [
          { ...axis, size: 26, space: 90, values: (_u, at) => written(at) },
          { ...axis, size: 62, space: 28, values: (_u, at) => at.map((v) => rate(v)) },
        ],
      },
      data.current,
      el,
    );
    plot.current = chart;
    const watch = new ResizeObserver(() => chart.setSize({ width: el.clientWidth, height }));
    watch.observe(el);
    return () => {
      watch.disconnect();
      chart.destroy();
    };
  }, [theme, shape]);

  useEffect(() => plot.current?.setData(data.current), [times, lines]);

  const last = lines.map((l) => `${l.label} ${rate(l.values.at(-1) ?? 0)}${unit}`).join(", ");
  return (
    <figure>
      <figcaption className="mb-1 flex flex-wrap items-baseline gap-x-4 text-[length:var(--text-small)] text-soft">
        <span className="font-semibold">{label}</span>
        {lines.map((l, i) => (
          <span key={l.label} className="inline-flex items-center gap-1.5">
            <svg width="22" height="6" aria-hidden="true">
              <line
                x1="0"
                x2="22"
                y1="3"
                y2="3"
                strokeWidth="2"
                stroke={i === 0 ? "var(--sea)" : "var(--attention)"}
                strokeDasharray={l.dashed ? "5 4" : undefined}
              />
            </svg>
            {l.label}{" "}
            <span className="figures inline-block min-w-16 text-ink">
              {rate(l.values.at(-1) ?? 0)}
              {unit}
            </span>
          </span>
        ))}
        {scale.beyond > 0 && (
          <span>
            highest {rate(scale.beyond)}
            {unit}, beyond the scale
          </span>
        )}
      </figcaption>
      <div ref={box} role="img" aria-label={`${label}: ${last}`} />
    </figure>
  );
}
