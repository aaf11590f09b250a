import { useQuery } from "@tanstack/react-query";
import { Send } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { useLive } from "../api/live";
import { explain, get, queuePath, type QueueMessage, type Channel } from "../api/client";
import { ActionDialog } from "../components/ActionDialog";
import { bodyText } from "../components/MessageDrawer";
import { Command, Copy } from "../components/Copy";
import { Failure } from "../components/Failure";
import { Mark } from "../components/Mark";
import { MayAt } from "../components/Part";
import { SendDialog } from "../components/SendDialog";
import { type Column, Timetable } from "../components/Timetable";
import { QueueRoutes } from "./TopicGroups";
import { ask, isAsked } from "../lib/asked";
import { ago, count, rate, span } from "../lib/format";
import { useUrlState } from "../lib/url";
import { Partitions } from "./Partitions";
import { SettingsTab } from "./Settings";

const states = ["waiting", "leased", "delayed", "dead"] as const;
// Told apart by their pattern too, not by colour alone.
const looks = {
  waiting: "var(--sea)",
  leased: "repeating-linear-gradient(135deg, var(--working) 0 3px, var(--sheet) 3px 6px)",
  delayed: "repeating-linear-gradient(90deg, var(--stopped) 0 2px, var(--sheet) 2px 5px)",
  dead: "var(--alarm)",
};

/** The standing ruler of a queue: where its messages are, as lengths. */
export function StandingLine({ queue }: { queue: NonNullable<Channel["queue"]> }) {
  const total = states.reduce((n, s) => n + queue[s], 0) || 1;
  return (
    <div
      className="flex h-4 w-full overflow-hidden rounded-sm border border-strong bg-sunk"
      role="img"
      aria-label={states.map((s) => `${count(queue[s])} ${s}`).join(", ")}
    >
      {states.map((s) => (
        <span
          key={s}
          style={{ width: `${(100 * queue[s]) / total}%`, minWidth: queue[s] > 0 ? 3 : 0, background: looks[s] }}
          className="border-l border-strong first:border-l-0"
        />
      ))}
    </div>
  );
}

const parts = ["waiting", "members", "routes", "partitions", "settings"] as const;

function Looking({ address }: { address: string }) {
  const [params, change] = useUrlState();
  const [where, setWhere] = useState(params.get("where") ?? "");
  const [discarding, setDiscarding] = useState(false);
  const state = params.get("state") ?? "waiting";
  const came = params.get("where") ?? "";
  const list = useQuery({
    enabled: isAsked(came),
    queryKey: ["items", address, state, came],
    queryFn: () =>
      get<{ items: QueueMessage[] }>(
        `${queuePath(address)}/items?limit=200&state=${state}${params.get("where") ? `&where=${encodeURIComponent(params.get("where")!)}` : ""}`,
      ),
    refetchInterval: 2000,
    retry: false,
    placeholderData: (old) => old,
  });
  const items = list.data?.items ?? [];
  return (
    <>
      <form
        className="mb-2 flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          ask(where);
          change({ where });
          if (where === came) void list.refetch();
        }}
      >
        <label className="block">
          <span className="label">State</span>
          <select
            className="field"
            value={state}
            onChange={(e) => change({ state: e.target.value === "waiting" ? "" : e.target.value })}
          >
            {[...states, "discarded"].map((s) => (
              <option key={s}>{s}</option>
            ))}
          </select>
        </label>
        <label className="block min-w-72 flex-1">
          <span className="label">Condition</span>
          <input
            className="field address"
            value={where}
            placeholder="body.celsius > 8"
            onChange={(e) => setWhere(e.target.value)}
          />
        </label>
        <button className="button">Look</button>
        <a
          className="button no-underline"
          href={`/api/v1${queuePath(address)}/export?state=${state}${params.get("where") ? `&where=${encodeURIComponent(params.get("where")!)}` : ""}`}
          download
        >
          Export
        </a>
        {state === "waiting" && (
          <button type="button" className="button" data-alarm onClick={() => setDiscarding(true)}>
            Discard these
          </button>
        )}
      </form>
      <p className="mb-2 text-[length:var(--text-small)] text-soft">
        Looking leases nothing: these messages stay where they are.
      </p>
      {list.error && <Failure text={explain(list.error)} />}
      {!isAsked(came) ? (
        <p className="py-4">This condition came with the address, and has not run. Read it, then press Look to run it.</p>
      ) : items.length === 0 ? (
        <p className="py-4 text-soft">No message is {state} now.</p>
      ) : (
        <div className="relative overflow-x-auto" role="region" aria-label="Messages" tabIndex={0}>
          <table className="timetable">
            <thead>
              <tr>
                <th scope="col">Message</th>
                <th scope="col">State</th>
                <th scope="col" className="figures">
                  Published
                </th>
                <th scope="col" className="figures">
                  Attempts
                </th>
                <th scope="col" className="max-md:hidden">
                  Held by
                </th>
                <th scope="col">Body</th>
              </tr>
            </thead>
            <tbody>
              {items.map((m) => (
                <tr key={m.address}>
                  <td>
                    <Link className="address" to={`/trace/${address}/${m.partition}:${m.offset}`}>
                      #{m.partition}:{m.offset}
                    </Link>
                  </td>
                  <td>
                    <Mark state={m.state} />
                  </td>
                  <td className="figures whitespace-nowrap">{ago(m.time)} ago</td>
                  <td className="figures">{m.attempts}</td>
                  <td className="whitespace-nowrap max-md:hidden">{m.member}</td>
                  <td className="address max-w-120 truncate">{bodyText(m)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {discarding && (
        <ActionDialog
          address={address}
          doing="discard"
          state="waiting"
          choice={params.get("where") ? { where: params.get("where")! } : {}}
          what={`Waiting and delayed messages of ${address}${params.get("where") ? ` with ${params.get("where")}` : ""}`}
          onClose={() => setDiscarding(false)}
        />
      )}
    </>
  );
}

const memberColumns: Column<NonNullable<Channel["queue"]>["members"][number]>[] = [
  { key: "member", title: "Member", show: (m) => m.member },
  { key: "holds", title: "Holds", figures: true, show: (m) => count(m.leased) },
  { key: "oldest", title: "Oldest for", figures: true, show: (m) => (m.since ? ago(m.since) : "–") },
  {
    key: "due",
    title: "Next runs out in",
    figures: true,
    show: (m) => (m.deadline ? span(Math.max(0, Date.parse(m.deadline) - Date.now())) : "–"),
  },
  { key: "seen", title: "Heard of", figures: true, show: (m) => (m.seen ? `${ago(m.seen)} ago` : "–") },
];

function Members({ queue, address }: { queue: NonNullable<Channel["queue"]>; address: string }) {
  if (queue.members.length === 0) {
    return (
      <>
        <p className="mb-2 text-soft">
          No member has asked for messages in the last minute. A member can be any program, or a command for each message:
        </p>
        <Command text={`ferry work ${address} -- COMMAND`} />
      </>
    );
  }
  return <Timetable label="Members" columns={memberColumns} rows={queue.members} rowKey={(m) => m.member} />;
}

/** A queue: where its messages are, who works on them, and what waits. */
export function QueuePage({ topic, whole, rates }: { topic: Channel; whole: Channel; rates: React.ReactNode }) {
  const [params, change] = useUrlState();
  const [sending, setSending] = useState(false);
  const q = topic.queue!;
  const routes = useLive().live?.groups.filter((g) => g.channel === topic.address) ?? [];
  const tab = parts.find((p) => p === params.get("tab")) ?? "waiting";
  const names = {
    waiting: "Messages",
    members: `Members (${q.members.length})`,
    routes: `Routes (${routes.length})`,
    partitions: `Partitions (${topic.partitionCount})`,
    settings: "Settings",
  };
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="address flex items-center gap-1">
          {topic.address}
          <Copy text={topic.address} what="address" />
        </h1>
        <Mark state={topic.state} />
        <span className="text-soft">queue</span>
        <p className="mr-auto text-soft">{topic.description}</p>
        {q.dead > 0 && (
          <Link className="button no-underline" to={`/dead/${topic.address}`}>
            See why {count(q.dead)} failed
          </Link>
        )}
        <MayAt verbs={["publish"]} at={topic.address}>
          <button className="button" data-main disabled={topic.paused} onClick={() => setSending(true)}>
            <Send size={15} aria-hidden /> Send a message
          </button>
        </MayAt>
      </div>
      <StandingLine queue={q} />
      <dl className="my-3 flex flex-wrap gap-x-6 gap-y-1">
        {states.map((s) => (
          <div key={s} className="min-w-28">
            <dt className="text-[length:var(--text-small)]">
              <span className="mr-1.5 inline-block size-2.5 rounded-sm" style={{ background: looks[s] }} aria-hidden="true" />
              <span className="text-soft">{s}</span>
            </dt>
            <dd className="text-lg font-semibold tabular-nums">
              {s === "dead" && q.dead > 0 ? <Link to={`/dead/${topic.address}`}>{count(q.dead)}</Link> : count(q[s])}
            </dd>
          </div>
        ))}
        {(
          [
            ["Oldest waiting", q.oldestWaiting ? ago(q.oldestWaiting) : "–", ""],
            ["In", rate(topic.rates.messagesIn), "/s"],
            ["Out", rate(topic.rates.messagesOut), "/s"],
            ["Accepted so far", count(q.accepted), ""],
            ["Discarded", count(q.discarded), ""],
            ...(routes.length + q.taken > 0 ? [["Taken by routes", count(q.taken), ""] as const] : []),
          ] as const
        ).map(([name, value, unit]) => (
          <div key={name} className="min-w-24">
            <dt className="text-[length:var(--text-small)] text-soft">{name}</dt>
            <dd className="text-lg font-semibold tabular-nums">
              {value} <span className="text-[length:var(--text-small)] font-normal text-soft">{unit}</span>
            </dd>
          </div>
        ))}
      </dl>
      {rates}
      <div className="mt-4 mb-3 flex flex-wrap gap-x-6 border-b border-hair" role="tablist" aria-label="Parts of the queue">
        {parts.map((p) => (
          <button
            key={p}
            role="tab"
            id={`tab-${p}`}
            aria-selected={p === tab}
            aria-controls={`panel-${p}`}
            className={`-mb-px border-b-2 py-1.5 ${p === tab ? "border-sea font-semibold" : "border-transparent text-soft hover:text-ink"}`}
            onClick={() => change({ tab: p })}
          >
            {names[p]}
          </button>
        ))}
      </div>
      <div role="tabpanel" id={`panel-${tab}`} aria-labelledby={`tab-${tab}`}>
        {tab === "waiting" && <Looking address={topic.address} />}
        {tab === "members" && <Members queue={q} address={topic.address} />}
        {tab === "routes" && <QueueRoutes address={topic.address} routes={routes} />}
        {tab === "partitions" && <Partitions topic={whole} />}
        {tab === "settings" && <SettingsTab topic={whole} />}
      </div>
      {sending && <SendDialog topic={topic} onClose={() => setSending(false)} />}
    </>
  );
}
