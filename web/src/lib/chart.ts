// How one moves on a chart: to neighbours, and from trouble to trouble.
import type { ChartOf, ChartThing } from "../api/client";
import type { Point } from "./layout";

const severity: Record<string, number> = { alarm: 2, warn: 1, calm: 0 };

/** Things in trouble, the worst first. */
export const troubled = (things: ChartThing[]): ChartThing[] =>
  things.filter((t) => t.level !== "calm").sort((a, b) => severity[b.level]! - severity[a.level]! || a.id.localeCompare(b.id));

/** The ids of all that lies behind a thing, in the order in which it is come to. */
export function downstream(chart: ChartOf, id: string): string[] {
  const found: string[] = [];
  const seen = new Set([id]);
  for (let edge = [id]; edge.length > 0;) {
    const next = chart.links
      .filter((l) => edge.includes(l.from) && !seen.has(l.to))
      .map((l) => l.to)
      .filter((to, i, all) => all.indexOf(to) === i);
    next.forEach((to) => seen.add(to));
    found.push(...next);
    edge = next;
  }
  return found;
}

/** The thing that a key leads to from another one, or from nothing. */
export function step(chart: ChartOf, at: Record<string, Point>, from: string | undefined, key: string): string | undefined {
  const place = (id: string) => at[id] ?? { x: 0, y: 0 };
  const first = (ids: string[]) => ids.sort((a, b) => place(a).y - place(b).y)[0];
  const bad = troubled(chart.things).map((t) => t.id);
  if (key === "n") return bad[(bad.indexOf(from ?? "") + 1) % bad.length];
  if (!from || !at[from])
    return [...chart.things].sort((a, b) => place(a.id).x - place(b.id).x || place(a.id).y - place(b.id).y)[0]?.id;
  switch (key) {
    case "d":
      return downstream(chart, from).find((id) => bad.includes(id));
    case "ArrowRight":
      return first(chart.links.filter((l) => l.from === from).map((l) => l.to));
    case "ArrowLeft":
      return first(chart.links.filter((l) => l.to === from).map((l) => l.from));
    case "ArrowUp":
    case "ArrowDown": {
      const down = key === "ArrowDown" ? 1 : -1;
      const here = place(from);
      return chart.things
        .map((t) => t.id)
        .filter((id) => id !== from && Math.abs(place(id).x - here.x) < 90 && (place(id).y - here.y) * down > 0)
        .sort((a, b) => (place(a).y - place(b).y) * down)[0];
    }
  }
  return undefined;
}

/** How thick a way is through which so many messages go in a second. */
export const thickness = (rate: number) => (rate > 0 ? Math.min(1.2 + 1.5 * Math.log10(1 + rate), 8) : 1);
