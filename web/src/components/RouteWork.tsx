import type { Group, RouteWork as Work } from "../api/client";
import { ago, count, words } from "../lib/format";
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
