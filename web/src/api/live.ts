// The state of the node and its channels, second by second, shared by all that
// show it.
import { useSyncExternalStore } from "react";
import { merge, noteAll, Past } from "../lib/live";
import type { Flow, Live, Channel } from "./client";
import { openStream } from "./streams";

export type LiveState = { live?: Live; connected: boolean; at: number };

const kept = 60; // seconds
const past = { rates: new Past<Flow>(kept), lags: new Past<number>(kept) };
let state: LiveState = { connected: false, at: 0 };
const listeners = new Set<() => void>();
let source: EventSource | undefined;

function publish(next: LiveState) {
  state = next;
  listeners.forEach((f) => f());
}

function connect() {
  source = openStream("/api/v1/live");
  source.onmessage = (e: MessageEvent<string>) => {
    const news = JSON.parse(e.data) as Live;
    const live = merge(state.live, news);
    past.rates.forget(news.gone);
    past.lags.forget(news.gone);
    noteAll(past, live);
    publish({ live, connected: true, at: Date.now() });
  };
  source.onerror = () => {
    publish({ ...state, connected: false });
    if (source?.readyState === EventSource.CLOSED) {
      source.close();
      source = undefined;
      setTimeout(() => listeners.size > 0 && !source && connect(), 2000);
    }
  };
}

function subscribe(f: () => void) {
  listeners.add(f);
  if (!source) connect();
  return () => {
    listeners.delete(f);
    if (listeners.size === 0) {
      source?.close();
      source = undefined;
    }
  };
}

/** The newest state; connected tells whether it is current. */
export function useLive(): LiveState {
  return useSyncExternalStore(subscribe, () => state);
}

export function useLiveChannel(address: string): Channel | undefined {
  return useLive().live?.channels.find((t) => t.address === address);
}

/** The rates of a topic that were seen since the page was opened. */
export function pastRates(address: string): Flow[] {
  return past.rates.of(address);
}

/** The lag of a group that was seen since the page was opened. */
export function pastLag(address: string): number[] {
  return past.lags.of(address);
}
