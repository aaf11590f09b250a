import { useQuery } from "@tanstack/react-query";
import { get, type HappenedAt } from "../api/client";
import { clock, words } from "../lib/format";
import { type Column, Timetable } from "./Timetable";

const columns: Column<HappenedAt>[] = [
  { key: "time", title: "Time", className: "w-28 whitespace-nowrap tabular-nums", show: (e) => clock(e.at, false) },
  { key: "event", title: "What", className: "w-32 whitespace-nowrap", show: (e) => words(e.event) },
  { key: "detail", title: "Detail", className: "break-words", show: (e) => e.detail },
];

/** What happened to an endpoint or a route, the newest first. */
export function Events({ address }: { address: string }) {
  const events = useQuery({
    queryKey: ["events", address],
    queryFn: () => get<{ items: HappenedAt[] }>(`/events?limit=30&address=${encodeURIComponent(address)}`),
    refetchInterval: 2000,
    placeholderData: (old) => old,
  });
  const all = events.data?.items ?? [];
  return (
    <section>
      <h2 className="mt-5 mb-1">What happened</h2>
      {all.length === 0 ? (
        <p className="text-soft">Nothing in 30 days.</p>
      ) : (
        <Timetable label="What happened" columns={columns} rows={all} rowKey={(e) => e.number} />
      )}
    </section>
  );
}
