import { useVirtualizer } from "@tanstack/react-virtual";
import { Pause, Play, Radio } from "lucide-react";
import { lazy, Suspense, useEffect, useMemo, useRef, useState } from "react";
import { channelPath, explain, get, lines, Problem, type Event, type Message, type Progress, type Topic } from "../api/client";
import { ask, isAsked } from "../lib/asked";
import { openStream } from "../api/streams";
import { Copy } from "../components/Copy";
import { Mark } from "../components/Mark";
import { bodyText, MessageDrawer } from "../components/MessageDrawer";
import { Notice } from "../components/Panel";
import { ReplayDialog } from "../components/ReplayDialog";
import { TideLine } from "../components/TideLine";
import { also, fieldsOf } from "../lib/condition";
import { clock, count, quote, span } from "../lib/format";
import { useUrlState } from "../lib/url";
import { Failure } from "../components/Failure";

const Condition = lazy(() => import("../components/Condition"));

const rowHeight = 30;
const liveKept = 10_000;

type Found = { messages: Message[]; progress?: Progress; busy: boolean; failed?: string; leftOut: number; damaged: string[] };
const nothing: Found = { messages: [], busy: false, leftOut: 0, damaged: [] };

/** What the page looks for; all of it is in the URL. */
function useSelection() {
  const [params, change] = useUrlState();
  const selection = {
    partition: params.get("partition") ?? "",
    from: params.get("from") ?? "first",
    to: params.get("to") ?? "last",
    where: params.get("where") ?? "",
    limit: params.get("limit") ?? "500",
    view: params.get("view") ?? "newest", // newest, oldest or live
    open: params.get("open") ?? "",
  };
  return [selection, change] as const;
}

type Selection = ReturnType<typeof useSelection>[0];

/** Looks through the selection again whenever it, or the run, changes. */
function useBrowse(address: string, s: Selection, run: number): Found {
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
function useTail(address: string, s: Selection, paused: boolean, run: number): Found & { held: number; connected: boolean } {
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

export function Messages({ topic }: { topic: Topic }) {
  const [selection, change] = useSelection();
  const [run, setRun] = useState(0);
  const [paused, setPaused] = useState(false);
  const [replaying, setReplaying] = useState(false);
  const [draft, setDraft] = useState(selection.where);
  const live = selection.view === "live";
  const browse = useBrowse(topic.address, selection, run);
  const tail = useTail(topic.address, selection, paused, run);
  const found = live ? tail : browse;
  const fields = useMemo(() => fieldsOf(found.messages.slice(0, 50).map((m) => m.body)), [found.messages]);

  useEffect(() => setDraft(selection.where), [selection.where]);

  const search = (where: string) => {
    ask(where);
    if (where === selection.where) setRun((r) => r + 1);
    else change({ where });
  };
  const oldest = topic.oldest ? Date.parse(topic.oldest) : undefined;
  const [end, setEnd] = useState(() => Date.now());
  useEffect(() => {
    const timer = setInterval(() => setEnd(Date.now()), 1000);
    return () => clearInterval(timer);
  }, []);
  const timeOf = (p: string) => (p.startsWith("time:") ? Date.parse(p.slice(5)) : undefined);
  const iso = (t: number) => "time:" + new Date(t).toISOString();

  const command = [
    `ferry ${live ? "tail" : "browse"} ${topic.address}${selection.partition && !selection.partition.includes(",") ? "#" + selection.partition : ""}`,
    selection.partition.includes(",") && `-partition ${selection.partition}`,
    !live && selection.from !== "first" && `-from ${selection.from}`,
    !live && selection.to !== "last" && `-to ${selection.to}`,
    selection.where && `-where ${quote(selection.where)}`,
    !live && `-limit ${selection.limit}`,
    selection.view === "newest" && "-newest",
  ]
    .filter(Boolean)
    .join(" ");

  return (
    <section aria-label="Messages">
      {oldest !== undefined && (
        <TideLine
          oldest={oldest}
          end={end}
          messages={topic.messages}
          retain={retainMs(topic.retain)}
          from={timeOf(selection.from)}
          to={timeOf(selection.to)}
          onChoose={(a, b) => change({ from: iso(a), to: b ? iso(b) : "", view: "oldest", open: "" })}
        />
      )}
      <div className="mt-3 flex flex-wrap items-end gap-3">
        <fieldset className="flex">
          <legend className="label">Show</legend>
          {(["newest", "oldest", "live"] as const).map((v) => (
            <button
              key={v}
              type="button"
              aria-pressed={selection.view === v}
              className="button rounded-none first-of-type:rounded-l last-of-type:rounded-r -ml-px first-of-type:ml-0 aria-pressed:bg-seasoft aria-pressed:font-semibold aria-pressed:text-ink"
              onClick={() => change({ view: v, open: "" })}
            >
              {v === "live" && <Radio size={14} aria-hidden />}
              {{ newest: "newest first", oldest: "oldest first", live: "live" }[v]}
            </button>
          ))}
        </fieldset>
        <label>
          <span className="label">Partitions</span>
          <PositionInput
            value={selection.partition}
            placeholder="all"
            width="w-24"
            onDone={(partition) => change({ partition })}
          />
        </label>
        {!live && (
          <>
            <label>
              <span className="label">From</span>
              <PositionInput value={selection.from} placeholder="first" width="w-52" onDone={(from) => change({ from })} />
            </label>
            <label>
              <span className="label">To</span>
              <PositionInput value={selection.to} placeholder="last" width="w-52" onDone={(to) => change({ to })} />
            </label>
            <label>
              <span className="label">At most</span>
              <select className="field w-auto" value={selection.limit} onChange={(e) => change({ limit: e.target.value })}>
                {["100", "500", "2000", "10000"].map((n) => (
                  <option key={n} value={n}>
                    {count(Number(n))}
                  </option>
                ))}
              </select>
            </label>
          </>
        )}
      </div>
      <div className="mt-2 grid grid-cols-[minmax(0,1fr)_auto] items-start gap-3">
        <div>
          <span className="label">Condition</span>
          <Suspense fallback={<div className="field h-8" />}>
            <Condition value={draft} fields={fields} onChange={setDraft} onRun={search} />
          </Suspense>
        </div>
        <div className="flex gap-2 pt-[1.35rem]">
          {live ? (
            <button className="button" onClick={() => setPaused(!paused)} aria-pressed={paused}>
              {paused ? <Play size={14} aria-hidden /> : <Pause size={14} aria-hidden />}
              {paused ? "Go on" : "Pause"}
            </button>
          ) : null}
          <button className="button" data-main onClick={() => search(draft)}>
            {live ? "Apply" : "Look"}
          </button>
          <Copy text={command} what="ferry command">
            Command
          </Copy>
        </div>
      </div>
      <div className="flex flex-wrap items-start justify-between gap-x-4">
        <StatusLine found={found} live={live} tail={tail} paused={paused} asked={isAsked(selection.where)} />
        {!live && (
          <p className="mt-1 flex items-center gap-4 text-[length:var(--text-small)]">
            <button className="min-h-6 text-sea hover:underline" onClick={() => setReplaying(true)}>
              send these again
            </button>
            <a href={exportOf(topic.address, selection)} download>
              export these
            </a>
          </p>
        )}
      </div>
      {replaying && (
        <ReplayDialog
          from={topic.address + (/^\d+$/.test(selection.partition) ? `#${selection.partition}` : "")}
          selection={{ fromPosition: selection.from, toPosition: selection.to, where: selection.where }}
          onClose={() => setReplaying(false)}
        />
      )}
      {isAsked(selection.where) ? (
        <Rows
          found={found}
          live={live}
          connected={tail.connected}
          topic={topic}
          open={selection.open}
          onOpen={(open) => change({ open })}
        />
      ) : (
        <Notice title="This condition came with the address, and has not run.">
          <p>
            <code className="address">{selection.where}</code>
          </p>
          <p>Read it, then press {live ? "Apply" : "Look"} above to run it.</p>
        </Notice>
      )}
      <OpenMessage
        topic={topic}
        open={selection.open}
        messages={found.messages}
        onClose={() => change({ open: "" })}
        onField={(part) => search(also(selection.where, part))}
      />
    </section>
  );
}

/** Where all of the selection is had as a file. */
function exportOf(address: string, s: Selection): string {
  const query = new URLSearchParams({ from: s.from, to: s.to });
  if (s.where.trim()) query.set("where", s.where);
  if (s.partition) query.set("partition", s.partition);
  return `/api/v1${channelPath(address)}/export?${query}`;
}

/** Durations as the service writes them: 7d, 1d12h, 72h. */
function retainMs(text: string): number {
  const factor: Record<string, number> = { d: 86400e3, h: 3600e3, m: 60e3, s: 1e3 };
  return [...text.matchAll(/([0-9.]+)([dhms])/g)].reduce((sum, m) => sum + Number(m[1]) * (factor[m[2]!] ?? 0), 0);
}

/** A field that takes effect when it is left or Enter is pressed. */
function PositionInput({
  value,
  placeholder,
  width,
  onDone,
}: {
  value: string;
  placeholder: string;
  width: string;
  onDone: (v: string) => void;
}) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  const done = () => text.trim() !== value && onDone(text.trim());
  return (
    <input
      className={`field address ${width}`}
      value={text}
      placeholder={placeholder}
      onChange={(e) => setText(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => e.key === "Enter" && done()}
      spellCheck={false}
    />
  );
}

function StatusLine({
  found,
  live,
  tail,
  paused,
  asked,
}: {
  found: Found;
  live: boolean;
  asked: boolean;
  tail: { held: number; connected: boolean };
  paused: boolean;
}) {
  const p = found.progress;
  const parts: React.ReactNode[] = [];
  if (!asked) {
    parts.push(<Mark key="m" state="paused" word="not run" />);
  } else if (live) {
    parts.push(
      <Mark
        key="m"
        state={tail.connected ? (paused ? "paused" : "ready") : "starting"}
        word={tail.connected ? (paused ? "paused" : "live") : "connecting"}
      />,
    );
    parts.push(`${count(found.messages.length)} shown`);
    if (paused && tail.held > 0) parts.push(`${count(tail.held)} more have come`);
    if (found.leftOut > 0) parts.push(`${count(found.leftOut)} left out: more came than can be shown`);
  } else {
    if (found.busy) parts.push(<Mark key="m" state="starting" word="looking" />);
    else if (found.failed) parts.push(<Mark key="m" state="failed" />);
    else parts.push(<Mark key="m" state="ready" word="done" />);
    if (!found.failed || found.messages.length > 0) parts.push(`found ${count(found.messages.length)}`);
    if (p) parts.push(`looked at ${count(p.lookedAt)} of ${count(p.total)}`);
    if (p?.full) parts.push("one answer holds no more: choose a shorter stretch");
  }
  return (
    <div className="mt-1 mb-2 min-w-0 flex-1">
      <p className="flex flex-wrap gap-x-4 text-[length:var(--text-small)] text-soft tabular-nums" role="status">
        {parts.map((part, i) => (
          <span key={i}>{part}</span>
        ))}
      </p>
      {!live && found.busy && p && p.total > 0 && (
        <progress
          className="h-1 w-full accent-[var(--sea)]"
          value={p.lookedAt}
          max={p.total}
          aria-label="How far the search is"
        />
      )}
      <Failure text={found.failed} />
      {found.damaged.map((d) => (
        <p key={d} className="text-alarm">
          ■ damaged on disk, left out: <span className="address">{d}</span>
        </p>
      ))}
    </div>
  );
}

/** The messages, of which only the visible ones are drawn. */
function Rows({
  found,
  live,
  connected,
  topic,
  open,
  onOpen,
}: {
  found: Found;
  live: boolean;
  connected: boolean;
  topic: Topic;
  open: string;
  onOpen: (place: string) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: found.messages.length,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 12,
    // A row keeps its place when new ones come above it.
    getItemKey: (i) => found.messages[i]!.address,
  });
  const before = useRef(found.messages);
  useEffect(() => {
    // What is being read stays where it is while newer messages come above.
    const el = box.current;
    if (el && live && el.scrollTop > rowHeight && found.messages !== before.current) {
      const top = before.current[0];
      const moved = top ? found.messages.findIndex((m) => m.address === top.address) : 0;
      if (moved > 0) el.scrollTop += moved * rowHeight;
    }
    before.current = found.messages;
  }, [found.messages, live]);

  if (found.messages.length === 0 && !found.busy && !found.failed) {
    return (
      <Notice
        title={
          live
            ? connected
              ? "Nothing has come yet."
              : "Connecting"
            : topic.messages === 0
              ? "This topic is empty."
              : "No message fits."
        }
      >
        {topic.messages === 0 && (
          <p>
            Send the first one with the button above, or with{" "}
            <code className="address">ferry send {topic.address} -body hello</code>
          </p>
        )}
        {topic.messages > 0 && !live && <p>Look over a longer stretch, or make the condition wider.</p>}
      </Notice>
    );
  }
  const columns = "grid grid-cols-[6.5rem_7.5rem_minmax(0,1fr)] md:grid-cols-[7.5rem_8.5rem_8rem_minmax(0,1fr)_4.5rem] gap-x-3";
  return (
    <div role="table" aria-label="Messages found" aria-rowcount={found.messages.length}>
      <div
        role="row"
        className={`${columns} border-b border-strong pb-1 text-[length:var(--text-small)] font-semibold text-soft`}
      >
        <span role="columnheader">Place</span>
        <span role="columnheader">Stored</span>
        <span role="columnheader" className="max-md:hidden">
          Key
        </span>
        <span role="columnheader">Body</span>
        <span role="columnheader" className="figures max-md:hidden">
          Bytes
        </span>
      </div>
      <div ref={box} className="h-[max(20rem,calc(100dvh-34rem))] overflow-y-auto" tabIndex={0} role="rowgroup" aria-label="Rows">
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((item) => {
            const m = found.messages[item.index]!;
            const place = `${m.partition}:${m.offset}`;
            return (
              <div
                key={item.key}
                role="row"
                aria-rowindex={item.index + 1}
                aria-selected={place === open}
                className={`${columns} absolute inset-x-0 top-0 items-center border-b border-hair hover:bg-seasoft aria-selected:bg-seasoft`}
                style={{ height: rowHeight, transform: `translateY(${item.start}px)` }}
                onClick={() => onOpen(place)}
              >
                <span role="cell" className="truncate">
                  <button type="button" className="address text-sea hover:underline" onClick={() => onOpen(place)}>
                    #{place}
                  </button>
                </span>
                <span role="cell" className="truncate tabular-nums" title={`${span(Date.now() - Date.parse(m.time))} ago`}>
                  {clock(m.time)}
                </span>
                <span role="cell" className="address truncate max-md:hidden">
                  {m.key}
                </span>
                <span role="cell" className="address truncate">
                  {bodyText(m)}
                </span>
                <span role="cell" className="figures max-md:hidden">
                  {count(m.size)}
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

/** The message that the URL names, from what was found or from the service. */
function OpenMessage({
  topic,
  open,
  messages,
  onClose,
  onField,
}: {
  topic: Topic;
  open: string;
  messages: Message[];
  onClose: () => void;
  onField: (part: string) => void;
}) {
  const [partition, offset] = open.split(":").map(Number);
  const [fetched, setFetched] = useState<{ open: string; message?: Message; failed?: string }>();
  const here = open ? messages.find((m) => m.partition === partition && m.offset === offset) : undefined;
  const missing = open !== "" && !here && fetched?.open !== open;
  useEffect(() => {
    if (!missing) return;
    let stale = false;
    get<Message>(`${channelPath(topic.address)}/partitions/${partition}/messages/${offset}`).then(
      (message) => !stale && setFetched({ open, message }),
      (error: unknown) => !stale && setFetched({ open, failed: explain(error) }),
    );
    return () => {
      stale = true;
    };
  }, [missing, open, topic.address, partition, offset]);
  if (!open) return null;
  const message = here ?? (fetched?.open === open ? fetched.message : undefined);
  if (message) return <MessageDrawer message={message} onClose={onClose} onField={onField} />;
  return fetched?.open === open && fetched.failed ? (
    <p role="alert" className="text-alarm">
      ■ {fetched.failed}
    </p>
  ) : null;
}
