import { Link } from "react-router";
import type { Group } from "../api/client";
import { pastLag, useLive } from "../api/live";
import { Command } from "../components/Copy";
import { Mark } from "../components/Mark";
import { ListPage } from "../components/ListPage";
import { Notice } from "../components/Panel";
import { Spark } from "../components/Spark";
import type { Column } from "../components/Timetable";
import { count, rate, span } from "../lib/format";
import { channelOf, readerPage } from "../lib/address";

/** How old the oldest unread message is. */
export const unread = (seconds: number) =>
  seconds === 0 ? "–" : seconds < 10 ? `${seconds.toFixed(1)} s` : span(seconds * 1000);

/** When retention passes a group, or that it does not. */
export const forecast = (g: { losesIn: number | null; lost: number; lag: number }) =>
  g.lost > 0
    ? `${count(g.lost)} lost`
    : g.losesIn !== null
      ? `loses data in ${span(g.losesIn * 1000)}`
      : g.lag > 0
        ? "loses nothing"
        : "–";

const loses = (g: Group) => (g.lost > 0 ? `${count(g.lost)} lost` : g.losesIn !== null ? span(g.losesIn * 1000) : "–");

export const groupColumns: Column<Group>[] = [
  {
    key: "group",
    title: "Group",
    show: (g) => (
      <>
        <Link className="address max-md:whitespace-normal" to={readerPage(g.address)}>
          {channelOf(g.address)}
          <wbr />
          {g.address.slice(channelOf(g.address).length)}
        </Link>
        {g.kind === "route" && (
          <div className="address max-w-md truncate text-[length:var(--text-small)] text-soft">route to {g.to}</div>
        )}
        {g.description && (
          <div className="max-w-md truncate text-[length:var(--text-small)] text-soft max-md:hidden">{g.description}</div>
        )}
      </>
    ),
  },
  {
    key: "state",
    title: "Verdict",
    className: "md:min-w-52",
    show: (g) => <Mark state={g.state} word={g.verdict} wrap />,
  },
  {
    key: "lag",
    title: "Lag",
    figures: true,
    show: (g) => (
      <span className="inline-flex items-center justify-end gap-2">
        <span className="max-md:hidden">
          <Spark values={pastLag(g.address)} label={`lag, last minute, now ${count(g.lag)}`} />
        </span>
        <span className="inline-block min-w-14">{count(g.lag)}</span>
      </span>
    ),
  },
  { key: "unread", title: "Oldest unread", figures: true, className: "whitespace-nowrap", show: (g) => unread(g.lagSeconds) },
  { key: "in", title: "In, per second", figures: true, wide: true, show: (g) => rate(g.arrivalRate) },
  { key: "read", title: "Read, per second", figures: true, wide: true, show: (g) => rate(g.commitRate) },
  { key: "members", title: "Members", figures: true, wide: true, show: (g) => (g.kind === "route" ? "–" : g.memberCount) },
  { key: "loses", title: "Loses data in", wide: true, className: "whitespace-nowrap", show: loses },
];

const textOf = (g: Group) => `${g.address} ${g.description} ${g.verdict}`;

/** All groups of all topics, the worst first. */
export function Groups() {
  const { live } = useLive();
  return (
    <ListPage
      title="Groups"
      note="the worst first"
      what="group"
      rows={live?.groups}
      columns={groupColumns}
      rowKey={(g) => g.address}
      text={textOf}
      placeholder="name or how it does"
      empty={
        <Notice title="No group reads anything yet.">
          <p>A group remembers how far it has read a topic. The first read makes it:</p>
          <Command text="ferry read coldchain/readings@compliance -from first" />
        </Notice>
      }
    />
  );
}
