// What the messages page looks for, and what is found or comes.
import { useEffect, useRef, useState } from "react";
import { channelPath, explain, lines, Problem, type Event, type Message, type Progress } from "../api/client";
import { isAsked } from "../lib/asked";
import { openStream } from "../api/streams";
import { useUrlState } from "../lib/url";

const liveKept = 10_000;

export type Found = {
  messages: Message[];
  progress?: Progress;
  busy: boolean;
  failed?: string;
  leftOut: number;
  damaged: string[];
};
const nothing: Found = { messages: [], busy: false, leftOut: 0, damaged: [] };

/** What the page looks for; all of it is in the URL. */
export function useSelection() {
  const [params, change] = useUrlState();
  const selection = {
    partition: params.get("partition") ?? "",
    from: params.get("from") ?? "first",
    to: params.get("to") ?? "end",
    where: params.get("where") ?? "",
    limit: params.get("limit") ?? "500",
    view: params.get("view") ?? "newest", // newest, oldest or live
    open: params.get("open") ?? "",
  };
  return [selection, change] as const;
}

export type Selection = ReturnType<typeof useSelection>[0];

/** Looks through the selection again whenever it, or the run, changes. */
export function useBrowse(address: string, s: Selection, run: number): Found {
  const [found, setFound] = useState(nothing);
  const { partition, from, to, where, limit, view } = s;
  useEffect(() => {
    if (view === "live") return;
    setFound(nothing);
    if (!isAsked(where)) return;
    const abort = new AbortController();
    const query = new URLSearchParams({ from, to, limit });
    if (where.trim()) query.set("where", where);
    if (partition) query.set("partition", partition);
    if (view === "newest") {
      query.set("take", "recent");
      query.set("order", "newest");
    }
    setFound({ ...nothing, busy: true });
    lines<Event>(`${channelPath(address)}/messages?${query}`, abort.signal, (events) =>
      setFound((f) => events.reduce<Found>(addEvent, { ...f, messages: f.messages.slice() })),
    )
      .then(() => setFound((f) => ({ ...f, busy: false })))
      .catch((error: unknown) => {
        if (!abort.signal.aborted) setFound((f) => ({ ...f, busy: false, failed: explain(error) }));
      });
    return () => abort.abort();
  }, [address, partition, from, to, where, limit, view, run]);
  return found;
}

function addEvent(f: Found, e: Event): Found {
  if (e.message) f.messages.push(e.message);
  if (e.progress) f.progress = e.progress;
  if (e.damage) f.damaged = [...f.damaged, `${e.damage.address} to ${e.damage.to - 1}`];
  if (e.problem) f.failed = new Problem(e.problem).message;
  return f;
}

/** Follows the selection live. While it is paused, what comes is kept back. */
export function useTail(
  address: string,
  s: Selection,
  paused: boolean,
  run: number,
): Found & { held: number; connected: boolean } {
  const [found, setFound] = useState(nothing);
  const [held, setHeld] = useState(0);
  const [connected, setConnected] = useState(false);
  const waiting = useRef<Message[]>([]);
  const pausedNow = useRef(paused);
  useEffect(() => {
    pausedNow.current = paused;
  }, [paused]);
  const { partition, where, view } = s;
  useEffect(() => {
    if (view !== "live") return;
    setFound(nothing);
    if (!isAsked(where)) return;
    waiting.current = [];
    const query = new URLSearchParams();
    if (where.trim()) query.set("where", where);
    if (partition) query.set("partition", partition);
    const source = openStream(`/api/v1${channelPath(address)}/tail?${query}`);
    let leftOut = 0;
    source.onopen = () => setConnected(true);
    source.onerror = () => setConnected(false);
    source.onmessage = (m: MessageEvent<string>) => {
      const e = JSON.parse(m.data) as Event;
      if (e.message) waiting.current.push(e.message);
      if (e.leftOut) leftOut += e.leftOut.messages;
      if (e.problem) {
        setFound((f) => ({ ...f, failed: new Problem(e.problem!).message }));
        source.close();
      }
      if (waiting.current.length > liveKept) leftOut += waiting.current.splice(0, waiting.current.length - liveKept).length;
    };
    // A few drawings a second, however many messages come.
    const timer = setInterval(() => {
      setHeld(pausedNow.current ? waiting.current.length : 0);
      if (pausedNow.current || (waiting.current.length === 0 && leftOut === 0)) return;
      const fresh = waiting.current.splice(0).reverse();
      const gone = leftOut;
      leftOut = 0;
      setFound((f) => ({ ...f, messages: [...fresh, ...f.messages].slice(0, liveKept), leftOut: f.leftOut + gone }));
    }, 250);
    return () => {
      clearInterval(timer);
      source.close();
      setConnected(false);
    };
  }, [address, partition, where, view, run]);
  return { ...found, held, connected };
}
