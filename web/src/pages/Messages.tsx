import { Pause, Play, Radio } from "lucide-react";
import { lazy, Suspense, useEffect, useMemo, useState } from "react";
import { channelPath, type Channel } from "../api/client";
import { ask, isAsked } from "../lib/asked";
import { Copy } from "../components/Copy";
import { Notice } from "../components/Panel";
import { MayAt } from "../components/Part";
import { ReplayDialog } from "../components/ReplayDialog";
import { TideLine } from "../components/TideLine";
import { also, fieldsOf } from "../lib/condition";
import { count, quote } from "../lib/format";
import { StatusLine, Rows, OpenMessage } from "../components/FoundRows";
import { PeriodInput, TextInput } from "../components/Period";
import { useLive } from "../api/live";
import { useSelection, useBrowse, useTail, type Selection } from "../lib/found";

const Condition = lazy(() => import("../components/Condition"));

export function Messages({ topic }: { topic: Channel }) {
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
  const { live: all } = useLive();
  const groups = (all?.groups ?? []).filter((g) => g.channel === topic.address).map((g) => g.group);
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
    !live && selection.to !== "end" && `-to ${selection.to}`,
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
          <TextInput value={selection.partition} placeholder="all" width="w-24" onDone={(partition) => change({ partition })} />
        </label>
        {!live && (
          <>
            <PeriodInput from={selection.from} to={selection.to} groups={groups} onDone={change} />
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
            <MayAt verbs={["replay"]} at={topic.address}>
              <button className="min-h-6 text-sea hover:underline" onClick={() => setReplaying(true)}>
                send these again
              </button>
            </MayAt>
            <MayAt verbs={["export"]} at={topic.address}>
              <a href={exportOf(topic.address, selection)} download>
                export these
              </a>
            </MayAt>
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
