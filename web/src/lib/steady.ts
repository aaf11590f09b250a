import { useState } from "react";
import type { QueueMessage } from "../api/client";

/** How many messages are listed. */
export const page = 100;

/** Keeps a list in the order in which its entries were first seen, so that
 *  nothing seeks while it is read; new ones come at the end. */
export function useSteady<T>(list: T[], key: (one: T) => string, about: string): T[] {
  const [seen, setSeen] = useState<{ about: string; keys: string[] }>({ about, keys: [] });
  const keys = seen.about === about ? seen.keys : [];
  const fresh = list.map(key).filter((k) => !keys.includes(k));
  if (seen.about !== about || fresh.length > 0) setSeen({ about, keys: [...keys, ...fresh] });
  const place = new Map([...keys, ...fresh].map((k, i) => [k, i]));
  return [...list].sort((a, b) => place.get(key(a))! - place.get(key(b))!);
}

/** Holds a list as it was when it was first seen, and counts what is newer. */
export function useHeld(list: QueueMessage[] | undefined, about: string) {
  const [held, setHeld] = useState<{ about: string; list: QueueMessage[] }>();
  if (list && (held?.about !== about || held.list.length === 0) && held?.list !== list) setHeld({ about, list });
  const was = held?.about === about ? held.list : (list ?? []);
  const now = new Map((list ?? []).map((m) => [m.address, m]));
  const known = new Set(was.map((m) => m.address));
  // A list that is full has an end that new ones have pushed out: they stay.
  const full = (list?.length ?? 0) >= page;
  return {
    items: was.filter((m) => full || now.has(m.address)).map((m) => now.get(m.address) ?? m),
    newer: (list ?? []).filter((m) => !known.has(m.address)).length,
    show: () => list && setHeld({ about, list }),
  };
}
