// What a stream of states tells: first all, then what has changed.
import type { Flow, Group, Live, Channel } from "../api/client";

/** The state with what has changed since. What has not changed stays the same
 *  object, and a list in which nothing has changed the same list. */
export function merge(before: Live | undefined, news: Live): Live {
  if (news.whole || !before) return news;
  const gone = new Set(news.gone);
  return {
    ...news,
    whole: true,
    gone: [],
    channels: mergeList(before.channels, news.channels, gone, (a, b) => compare(a.address, b.address)),
    groups: mergeList(before.groups, news.groups, gone, worseFirst),
  };
}

const compare = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0);

function worseFirst(a: Group, b: Group) {
  return b.severity - a.severity || Math.floor(b.lagSeconds) - Math.floor(a.lagSeconds) || compare(a.address, b.address);
}

function mergeList<T extends { address: string }>(before: T[], news: T[], gone: Set<string>, order: (a: T, b: T) => number): T[] {
  const left = gone.size > 0 ? before.filter((x) => !gone.has(x.address)) : before;
  if (news.length === 0) return left.length === before.length ? before : left;
  const changed = new Map(news.map((x) => [x.address, x]));
  const out = left.map((x) => {
    const now = changed.get(x.address);
    changed.delete(x.address);
    return now ?? x;
  });
  return [...out, ...changed.values()].sort(order);
}

/** The last so many values of many things, one a second. */
export class Past<V> {
  private values = new Map<string, V[]>();
  constructor(private kept: number) {}

  note(name: string, value: V) {
    const list = this.values.get(name);
    if (!list) this.values.set(name, [value]);
    else if (list.push(value) > this.kept) list.shift();
  }

  of(name: string): V[] {
    return this.values.get(name) ?? [];
  }

  forget(names: string[]) {
    names.forEach((n) => this.values.delete(n));
  }
}

export type Pasts = { rates: Past<Flow>; lags: Past<number> };

/** Notes the rates and lags of a state. */
export function noteAll(past: Pasts, live: { channels: Channel[]; groups: Group[] }) {
  for (const t of live.channels) past.rates.note(t.address, t.rates);
  for (const g of live.groups) past.lags.note(g.address, g.lag);
}
