import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { explain, get, type LogbookEntry } from "../api/client";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { clock, pageOf } from "../lib/format";

type Page = { items: LogbookEntry[]; next: string };

export function LogbookPage() {
  const [params, setParams] = useSearchParams();
  const filter = params.get("filter") ?? "";
  const log = useInfiniteQuery({
    queryKey: ["logbook"],
    queryFn: ({ pageParam }) => get<Page>(`/logbook?limit=200${pageParam && `&cursor=${pageParam}`}`),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 10_000,
  });
  if (log.error && !log.data) return <Notice mark={<Mark state="attention" word="" />} title={explain(log.error)} />;
  const entries = (log.data?.pages.flatMap((p) => p.items) ?? []).filter((e) =>
    `${e.who} ${e.action} ${e.address} ${e.change}`.includes(filter),
  );
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-4">
        <h1 className="mr-auto">Logbook</h1>
        <input
          className="field w-60"
          type="search"
          aria-label="Filter"
          placeholder="who, action, address or change"
          value={filter}
          onChange={(e) => setParams(e.target.value ? { filter: e.target.value } : {}, { replace: true })}
        />
      </div>
      <div className="overflow-x-auto">
        <table className="timetable">
          <thead>
            <tr>
              <th scope="col">Time</th>
              <th scope="col">Who</th>
              <th scope="col">What</th>
              <th scope="col">Address</th>
              <th scope="col">Change</th>
            </tr>
          </thead>
          <tbody>
            {entries.map((e) => (
              <tr key={e.id}>
                <td className="whitespace-nowrap tabular-nums">{clock(e.at, false)}</td>
                <td>{e.who}</td>
                <td className="whitespace-nowrap">
                  {e.action}
                  {e.times > 1 && `, ${e.times} times`}
                </td>
                <td className="address whitespace-nowrap">
                  {/topic|space/.test(e.action) && pageOf(e.address) ? (
                    <Link to={pageOf(e.address)!}>{e.address}</Link>
                  ) : (
                    e.address
                  )}
                </td>
                <td className="text-soft">{e.change}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {log.data && entries.length === 0 && <p className="py-6 text-soft">Nothing fits “{filter}”.</p>}
      {log.hasNextPage && (
        <button className="button mt-3" onClick={() => void log.fetchNextPage()}>
          Older entries
        </button>
      )}
    </>
  );
}
