import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type Endpoint, type Group, type RouteWork as Work } from "../api/client";
import { pageOf } from "../lib/address";
import { ago, count, many, words } from "../lib/format";
import { Mark } from "./Mark";
import { type Column, Timetable } from "./Timetable";

const columns: Column<Work>[] = [
  { key: "partition", title: "Partition", show: (w) => <span className="address">#{w.partition}</span> },
  { key: "node", title: "Done by", show: (w) => w.node || <span className="text-soft">nobody</span> },
  { key: "decided", title: "Decided", figures: true, show: (w) => count(w.decided) },
  { key: "sent", title: "Sent", figures: true, show: (w) => count(w.sent) },
  { key: "dead", title: "Dead", figures: true, show: (w) => count(w.dead) },
  {
    key: "waits",
    title: "Waits for",
    show: (w) =>
      w.waiting ? (
        <>
          <Mark state="attention" word={words(w.waiting.reason)} />{" "}
          <span className="text-soft">
            for {ago(w.waiting.since)}
            {w.waiting.why && `: ${w.waiting.why}`}
          </span>
        </>
      ) : (
        "–"
      ),
  },
];

/** What a route does on each partition of its source, since the node that leads it does so. */
export function RouteWork({ route }: { route: Group }) {
  return <Timetable label="Work" columns={columns} rows={route.work ?? []} rowKey={(w) => w.partition} />;
}

/** Where a route leads, and what it sends. */
export function Leads({ route }: { route: Group }) {
  const endpoints = useQuery({ queryKey: ["endpoints"], queryFn: () => get<{ items: Endpoint[] }>("/endpoints?limit=1000") });
  const outside = endpoints.data?.items.some((e) => e.address === route.to);
  const rows: [string, React.ReactNode][] = [
    [
      "Leads to",
      <Link key="to" className="address" to={outside ? `/endpoints/${route.to}` : `/channels/${route.to}`}>
        {route.to}
      </Link>,
    ],
    ["Sends", route.where ? <code>{route.where}</code> : "every message"],
    ...(route.edits ?? []).map((e, i): [string, React.ReactNode] => [i === 0 ? "Edits" : "", <code key={i}>{e}</code>]),
    [
      "Dead letters",
      <Link key="dead" className="address" to={pageOf(`${route.address}/dead`)!}>
        {route.address}/dead
      </Link>,
    ],
  ];
  return (
    <dl className="mb-3 grid grid-cols-[auto_1fr] gap-x-4 gap-y-0.5">
      {rows.map(([title, value], i) => (
        <div key={i} className="contents">
          <dt className="text-soft">{title}</dt>
          <dd className="min-w-0 break-words">{value}</dd>
        </div>
      ))}
    </dl>
  );
}

/** Dead letters of a route that its endpoint did not take for too long. */
export function Outage({ route }: { route: Group }) {
  return (
    <p className="mb-3">
      <Mark state="attention" word={`${many(route.outage!, "dead letter")} of an outage`} /> They have no fault of their own: the
      endpoint did not take them for too long.{" "}
      <Link className="underline" to={`${pageOf(`${route.address}/dead`)}?reason=given-up`}>
        Look at exactly those, and return them
      </Link>
    </p>
  );
}
