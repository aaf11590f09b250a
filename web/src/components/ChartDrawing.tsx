import { Flag, Layers, Plug, RadioTower, Spline, Users, Waves } from "lucide-react";
import { useEffect, useMemo, useRef, useState } from "react";
import type { ChartOf, ChartThing } from "../api/client";
import { step, thickness } from "../lib/chart";
import { rate, words } from "../lib/format";
import { type Layout, type Point, wayKey } from "../lib/layout";
import { markOf } from "./Mark";

const icons = { publisher: RadioTower, topic: Waves, queue: Layers, group: Flag, route: Spline, endpoint: Plug, members: Users };
const height = 46;
const mostName = 24;
const shortName = (t: ChartThing) => (t.name.length > mostName ? `${t.name.slice(0, mostName - 1)}…` : t.name);
const widthOf = (t: ChartThing) => Math.max(132, 46 + 8.7 * shortName(t).length);

/** Lays a chart out in a worker, anew only when other things hang together. */
function useLayout(chart: ChartOf): Layout | undefined {
  const worker = useRef<Worker>(undefined);
  const number = useRef(0);
  const [layout, setLayout] = useState<Layout>();
  const shape = JSON.stringify([chart.things.map((t) => [t.id, widthOf(t)]), chart.links.map((l) => [l.from, l.to])]);
  useEffect(() => {
    const w = new Worker(new URL("../lib/layout.worker.ts", import.meta.url), { type: "module" });
    w.onmessage = (e: MessageEvent<{ number: number; layout: Layout }>) => {
      if (e.data.number === number.current) setLayout(e.data.layout);
    };
    worker.current = w;
    return () => w.terminate();
  }, []);
  useEffect(() => {
    const [things, links] = JSON.parse(shape) as [[string, number][], [string, string][]];
    number.current++;
    worker.current?.postMessage({
      number: number.current,
      things: things.map(([id, width]) => ({ id, width, height })),
      links: links.map(([from, to]) => ({ from, to })),
    });
  }, [shape]);
  return layout;
}

/** A way through points, with round corners. */
function path(points: Point[]): string {
  const [first, ...rest] = points;
  if (!first) return "";
  let d = `M${first.x} ${first.y}`;
  rest.forEach((p, i) => {
    const next = rest[i + 1];
    d += next ? `Q${p.x} ${p.y} ${(p.x + next.x) / 2} ${(p.y + next.y) / 2}` : `L${p.x} ${p.y}`;
  });
  return d;
}

/** The points of a way: it leaves a thing in the middle of its right side, and comes to one in the middle of its left. */
function straight(layout: Layout, byID: Map<string, ChartThing>, l: { from: string; to: string }): Point[] | undefined {
  const points = layout.ways[wayKey(l)];
  const [from, to] = [byID.get(l.from), byID.get(l.to)];
  const [a, b] = [layout.at[l.from], layout.at[l.to]];
  if (!points || !from || !to || !a || !b) return undefined;
  const begin = { x: a.x + widthOf(from) / 2, y: a.y };
  const end = { x: b.x - widthOf(to) / 2, y: b.y };
  if (begin.x >= end.x) return points; // it goes back
  const bend = (end.x - begin.x) / 3;
  return [
    begin,
    { x: begin.x + bend, y: begin.y },
    ...points.slice(1, -1).filter((p) => p.x > begin.x + bend && p.x < end.x - bend),
    { x: end.x - bend, y: end.y },
    end,
  ];
}

/** What a thing is, for those who hear it. */
export const spoken = (t: ChartThing) =>
  `${t.kind} ${t.folded ? t.name : t.id}, ${words(t.state)}${t.level === "calm" ? "" : `, ${t.level}`}: ${t.says}`;

function Thing({ thing: t, at, chosen }: { thing: ChartThing; at: Point; chosen: boolean }) {
  const width = widthOf(t);
  const Icon = icons[t.kind];
  const mark = markOf(t.level === "calm" ? t.state : t.level);
  const stroke = t.level === "alarm" ? "var(--alarm)" : t.level === "warn" ? "var(--attention)" : "var(--hair-strong)";
  return (
    <g transform={`translate(${at.x - width / 2} ${at.y - height / 2})`} data-thing={t.id} className="cursor-pointer">
      {t.folded && <rect x="4" y="-4" width={width} height={height} fill="var(--sunk)" stroke={stroke} />}
      {chosen && (
        <rect x="-4" y="-4" width={width + 8} height={height + 8} fill="none" stroke="var(--focus)" strokeWidth="2.500" />
      )}
      <rect
        width={width}
        height={height}
        rx={t.kind === "queue" ? 10 : 2}
        fill="var(--sheet)"
        stroke={stroke}
        strokeWidth={t.level === "calm" ? 1 : 2.5}
        strokeDasharray={t.paused ? "4 3" : undefined}
      />
      <Icon x="9" y="7" width="16" height="16" color="var(--ink-soft)" aria-hidden />
      <text x="31" y="19" className="address" fill="var(--ink)" fontSize="13">
        {shortName(t)}
      </text>
      <g transform="translate(10 28)" className={mark.colour}>
        {mark.shape}
      </g>
      <text x="31" y="38" fill="var(--ink-soft)" fontSize="12">
        {words(t.level === "calm" ? t.state : t.level)}
        {t.rate > 0 && ` · ${rate(t.rate)}/s`}
      </text>
    </g>
  );
}

/** The drawing: a click or the keyboard chooses a thing, and opens it. */
export function ChartDrawing({
  chart,
  chosen,
  scale,
  onChoose,
  onOpen,
}: {
  chart: ChartOf;
  chosen: string | undefined;
  scale: number;
  onChoose: (id: string) => void;
  onOpen: (id: string) => void;
}) {
  const layout = useLayout(chart);
  const frame = useRef<HTMLDivElement>(null);
  const byID = useMemo(() => new Map(chart.things.map((t) => [t.id, t])), [chart.things]);
  useEffect(() => {
    const at = chosen && layout?.at[chosen];
    if (!at || !frame.current) return;
    const { scrollLeft: x, scrollTop: y, clientWidth: w, clientHeight: h } = frame.current;
    const px = at.x * scale;
    const py = at.y * scale;
    if (px < x + 60 || px > x + w - 60 || py < y + 30 || py > y + h - 30)
      frame.current.scrollTo({ left: px - w / 2, top: py - h / 2 });
  }, [chosen, layout, scale]);
  if (!layout) return <p className="py-10 text-soft">It is being drawn.</p>;
  const keys = (e: React.KeyboardEvent) => {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "Enter" && chosen) {
      e.preventDefault();
      onOpen(chosen);
      return;
    }
    if (!["n", "d", "ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"].includes(e.key)) return;
    e.preventDefault();
    const to = step(chart, layout.at, chosen, e.key);
    if (to) onChoose(to);
  };
  const click = (e: React.MouseEvent) => {
    const id = (e.target as Element).closest("[data-thing]")?.getAttribute("data-thing");
    if (id) onOpen(id);
  };
  const of = chosen ? byID.get(chosen) : undefined;
  return (
    <>
      <div ref={frame} className="max-h-[calc(100dvh-13rem)] min-h-40 overflow-auto border border-hair bg-paper">
        <svg
          tabIndex={0}
          role="application"
          aria-roledescription="chart"
          aria-label="How it hangs together. Arrow keys go along the ways of messages, n goes to the next trouble, d to the next one downstream, Enter opens a thing."
          aria-describedby="chart-chosen"
          width={layout.width * scale}
          height={layout.height * scale}
          viewBox={`0 0 ${layout.width} ${layout.height}`}
          onKeyDown={keys}
          onClick={click}
        >
          <defs>
            <marker
              id="chart-end"
              viewBox="0 0 8 8"
              refX="7"
              refY="4"
              markerWidth="8"
              markerHeight="8"
              markerUnits="userSpaceOnUse"
              orient="auto"
            >
              <path d="M0 0 8 4 0 8z" fill="var(--hair-strong)" />
            </marker>
          </defs>
          {chart.links.map((l) => {
            const points = straight(layout, byID, l);
            return (
              points && (
                <path
                  key={wayKey(l)}
                  d={path(points)}
                  fill="none"
                  stroke="var(--hair-strong)"
                  strokeWidth={thickness(l.rate)}
                  strokeDasharray={l.rate > 0 ? undefined : "3 4"}
                  markerEnd="url(#chart-end)"
                />
              )
            );
          })}
          {chart.things.map(
            (t) => layout.at[t.id] && <Thing key={t.id} thing={t} at={layout.at[t.id]!} chosen={t.id === chosen} />,
          )}
        </svg>
      </div>
      <p id="chart-chosen" role="status" className="sr-only">
        {of ? spoken(of) : "nothing is chosen"}
      </p>
    </>
  );
}
