import { scaleOf } from "../lib/scale";

const slots = 60;

/** A small chart without axes: the shape of the last minute, now at its right edge. */
export function Spark({ values, label }: { values: number[]; label: string }) {
  const width = 88;
  const height = 20;
  const top = Math.max(scaleOf(values).top, 1e-9);
  const points = values.map(
    (v, i) => `${((slots - values.length + i) / (slots - 1)) * width},${height - 1 - (Math.min(v, top) / top) * (height - 3)}`,
  );
  return (
    <svg
      width={width}
      height={height}
      viewBox={`0 0 ${width} ${height}`}
      role="img"
      aria-label={label}
      className="inline-block text-sea"
    >
      <line x1="0" x2={width} y1={height - 0.5} y2={height - 0.5} stroke="var(--hair)" />
      {values.length > 1 && top > 1e-6 && (
        <polyline points={points.join(" ")} fill="none" stroke="currentColor" strokeWidth="1.25" />
      )}
    </svg>
  );
}
