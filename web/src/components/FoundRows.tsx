import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import { channelPath, explain, get, type Message, type Channel } from "../api/client";
import { Mark } from "./Mark";
import { bodyText, MessageDrawer } from "./MessageDrawer";
import { Notice } from "./Panel";
import { clock, count, span } from "../lib/format";
import { Failure } from "./Failure";
import { type Found } from "../lib/found";

const rowHeight = 30;

/** A field that takes effect when it is left or Enter is pressed. */
export function StatusLine({
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
    if (p?.unlike) parts.push(`the condition did not apply to ${count(p.unlike)}: ${p.why}`);
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
export function Rows({
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
  topic: Channel;
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
              : "Nothing matches."
        }
      >
        {topic.messages === 0 && (
          <p>
            Send the first one with the button above, or with{" "}
            <code className="address">ferry send {topic.address} -body hello</code>
          </p>
        )}
        {topic.messages > 0 && !live && <p>Look over a longer stretch, or widen the condition.</p>}
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
export function OpenMessage({
  topic,
  open,
  messages,
  onClose,
  onField,
}: {
  topic: Channel;
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
