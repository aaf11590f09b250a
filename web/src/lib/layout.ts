// Where things are drawn: what goes to the worker that lays them out, and what comes back.
export interface Sized {
  id: string;
  width: number;
  height: number;
}
export interface Link {
  from: string;
  to: string;
}
export interface Point {
  x: number;
  y: number;
}
export interface Layout {
  width: number;
  height: number;
  at: Record<string, Point>; // middles of things
  ways: Record<string, Point[]>; // of links, by wayKey
}

export const wayKey = (l: Link) => `${l.from} > ${l.to}`;
