import { useInfiniteQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link } from "react-router";
import { explain, get, type LogbookEntry } from "../api/client";
import { ListPage } from "../components/ListPage";
import { Notice } from "../components/Panel";
import type { Column } from "../components/Timetable";
import { pageOf } from "../lib/address";
import { clock } from "../lib/format";

type Page = { items: LogbookEntry[]; next: string };

const columns: Column<LogbookEntry>[] = [
  { key: "time", title: "Time", className: "whitespace-nowrap tabular-nums", show: (e) => clock(e.at, false) },
  { key: "who", title: "Who", show: (e) => e.who },
  {
    key: "what",
    title: "Action",
    className: "whitespace-nowrap",
    show: (e) => e.action + (e.times > 1 ? `, ${e.times} times` : ""),
  },
  {
    key: "address",
    title: "Address",
    className: "address whitespace-nowrap",
    show: (e) =>
      /topic|queue|space|group|dead/.test(e.action) && pageOf(e.address) ? (
        <Link to={pageOf(e.address)!}>{e.address}</Link>
      ) : (
        e.address
      ),
  },
  { key: "change", title: "What changed", className: "text-soft", show: (e) => e.change },
];

const textOf = (e: LogbookEntry) => `${e.who} ${e.action} ${e.address} ${e.change}`;

export function LogbookPage() {
  const log = useInfiniteQuery({
    queryKey: ["logbook"],
    queryFn: ({ pageParam }) => get<Page>(`/logbook?limit=200${pageParam && `&cursor=${pageParam}`}`),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 10_000,
  });
  const entries = useMemo(() => log.data?.pages.flatMap((p) => p.items), [log.data]);
  return (
    <ListPage
      title="Logbook"
      what="entry"
      verb="logbook"
      rows={entries}
      failed={log.error && !log.data ? explain(log.error) : undefined}
      columns={columns}
      rowKey={(e) => e.id}
      text={textOf}
      placeholder="who, action, address or change"
      empty={<Notice title="Nothing was done yet." />}
      below={
        log.hasNextPage && (
          <button className="button mt-3" onClick={() => void log.fetchNextPage()}>
            Older entries
          </button>
        )
      }
    />
  );
}
