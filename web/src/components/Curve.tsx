import { clock, count } from "../lib/format";

export type Curved = { begin: string; stepSeconds: number; figures: (number | null)[] };

const width = 640;
const height = 96;

/** A figure of a watch with its unit. */
export function figureText(x: number | null | undefined, unit: string): string {
  if (x === null || x === undefined) return "–";
  if (unit === "s") return lasting(x);
  if (unit === "B") return sized(x);
  return (Number.isInteger(x) ? count(x) : x.toFixed(Math.abs(x) < 10 ? 2 : 1)) + unit;
}

function lasting(seconds: number): string {
  const parts: [number, string][] = [
    [86_400, "d"],
    [3_600, "h"],
    [60, "m"],
    [1, "s"],
  ];
  let left = Math.round(seconds);
  if (left < 1) return seconds > 0 ? `${seconds.toFixed(1)} s` : "0 s";
  const said: string[] = [];
  for (const [of, name] of parts) {
    const n = Math.floor(left / of);
    left -= n * of;
    if (n > 0 && said.length < 2) said.push(`${n} ${name}`);
  }
  return said.join(" ");
}

function sized(bytes: number): string {
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let i = 0;
  for (; bytes >= 1024 && i < units.length - 1; i++) bytes /= 1024;
  return `${bytes.toFixed(bytes < 10 && i > 0 ? 1 : 0)} ${units[i]}`;
}

/** A curve from where something is known. */
function fromFirst(curve: Curved): Curved {
  const first = curve.figures.findIndex((f) => f !== null);
  if (first <= 0) return curve;
  const begin = new Date(Date.parse(curve.begin) + first * curve.stepSeconds * 1000).toISOString();
  return { ...curve, begin, figures: curve.figures.slice(first) };
}

/** A figure over time, with the levels of its watch as lines, and the times in which it rang shaded. */
export function Curve({
  curve: whole,
  unit,
  warn,
  alarm,
  label,
  crossings = [],
}: {
  curve: Curved;
  unit: string;
  warn?: number | null;
  alarm?: number | null;
  label: string;
  crossings?: { begunAt: string; endedAt: string | null }[];
}) {
  const curve = fromFirst(whole);
  const known = curve.figures.filter((f) => f !== null);
  if (known.length === 0) return <p className="text-soft">Nothing was measured in this time.</p>;
  const top = Math.max(...known, warn ?? 0, alarm ?? 0, 1) * 1.08;
  const x = (i: number) => (i / Math.max(curve.figures.length - 1, 1)) * width;
  const y = (f: number) => height - (Math.max(f, 0) / top) * height;
  const begin = Date.parse(curve.begin);
  const end = begin + curve.figures.length * curve.stepSeconds * 1000;
  const at = (time: string | null) =>
    Math.min(Math.max((((time ? Date.parse(time) : end) - begin) / (end - begin)) * width, 0), width);
  let path = "";
  curve.figures.forEach((f, i) => {
    if (f === null) return;
    const joins = i > 0 && curve.figures[i - 1] !== null;
    path += `${joins ? "L" : "M"}${x(i).toFixed(1)} ${y(f).toFixed(1)}`;
    if (!joins && (i + 1 >= curve.figures.length || curve.figures[i + 1] === null)) path += "h1";
  });
  const last = known.at(-1);
  const long = end - begin > 2 * 86_400_000;
  const time = (t: number) =>
    long ? new Date(t).toLocaleDateString("en-GB", { day: "numeric", month: "short" }) : clock(new Date(t).toISOString(), false);
  const level = (f: number | null | undefined, name: string, colour: string) =>
    f !== null &&
    f !== undefined && (
      <line
        x1="0"
        x2={width}
        y1={y(f)}
        y2={y(f)}
        stroke={colour}
        strokeWidth="1.5"
        strokeDasharray="6 4"
        vectorEffect="non-scaling-stroke"
      >
        <title>{`${name} ${figureText(f, unit)}`}</title>
      </line>
    );
  return (
    <figure>
      <figcaption className="mb-1 flex flex-wrap gap-x-4 text-[length:var(--text-small)] text-soft">
        <span className="font-semibold">{label}</span>
        <span>
          now <span className="text-ink tabular-nums">{figureText(last, unit)}</span>
        </span>
        <span>
          highest <span className="text-ink tabular-nums">{figureText(Math.max(...known), unit)}</span>
        </span>
        {warn !== null && warn !== undefined && <span className="text-attention">– – warns at {figureText(warn, unit)}</span>}
        {alarm !== null && alarm !== undefined && <span className="text-alarm">– – alarms at {figureText(alarm, unit)}</span>}
      </figcaption>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        preserveAspectRatio="none"
        className="block h-24 w-full border-b border-hair bg-sunk"
        role="img"
        aria-label={`${label}: now ${figureText(last, unit)}, highest ${figureText(Math.max(...known), unit)}`}
      >
        {crossings.map((c) => (
          <rect
            key={c.begunAt}
            x={at(c.begunAt)}
            width={Math.max(at(c.endedAt) - at(c.begunAt), 2)}
            y="0"
            height={height}
            fill="var(--attention)"
            opacity="0.18"
          />
        ))}
        {level(warn, "warns at", "var(--attention)")}
        {level(alarm, "alarms at", "var(--alarm)")}
        <path d={path} fill="none" stroke="var(--sea)" strokeWidth="1.5" vectorEffect="non-scaling-stroke" />
      </svg>
      <div className="flex justify-between text-[length:var(--text-small)] text-soft tabular-nums" aria-hidden="true">
        <span>{time(begin)}</span>
        <span>{time(end)}</span>
      </div>
    </figure>
  );
}
