import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type Group } from "../api/client";
import { Command } from "../components/Copy";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { NewRoute } from "../components/RouteDialog";
import { Pennants } from "../components/Pennants";
import { readerPage, readsDead } from "../lib/address";
import { count, many } from "../lib/format";
import { Timetable } from "../components/Timetable";
import { groupColumns } from "./Groups";

/** The routes that take from a queue. */
export function QueueRoutes({ address, routes }: { address: string; routes: Group[] }) {
  const all = routes.filter((r) => !r.where && !readsDead(r.group));
  return (
    <>
      {routes.length > 0 ? (
        <Timetable label="Routes" columns={groupColumns} rows={routes} rowKey={(g) => g.address} />
      ) : (
        <p className="text-soft">
          No route takes from this queue. A route sends what waits on to another channel, each message once.
        </p>
      )}
      {all.length > 0 && <p className="mt-2">All that comes goes on by {all.map((r) => r.address).join(", ")}.</p>}
      <div className="mt-2">
        <NewRoute source={address}>New route</NewRoute>
      </div>
    </>
  );
}

/** The groups of a topic: where each of them is on every partition. */
export function TopicGroups({ address, groups }: { address: string; groups: Group[] }) {
  const whole = useQuery({
    queryKey: ["lag", address],
    queryFn: () => get<{ items: Group[] }>(`/lag?address=${encodeURIComponent(address)}`),
    refetchInterval: 1000,
    placeholderData: (old) => old,
  });
  const make = <NewRoute source={address}>New route</NewRoute>;
  if (groups.length === 0) {
    return (
      <Notice title="No group reads this topic yet.">
        <p>A group remembers how far it has read. The first read creates it:</p>
        <Command text={`ferry read ${address}@compliance -from first`} />
        <p className="mt-2">A route is read by the service itself, which sends messages on to another channel:</p>
        {make}
      </Notice>
    );
  }
  const all = [...(whole.data?.items ?? [])].sort((a, b) => a.group.localeCompare(b.group));
  const partitions = all[0]?.partitions ?? [];
  return (
    <>
      <Timetable label="Groups" columns={groupColumns} rows={groups} rowKey={(g) => g.address} />
      <div className="mt-2">{make}</div>
      <h2 className="mt-5 mb-1">Where each group is on every partition</h2>
      <p className="mb-2 text-[length:var(--text-small)] text-soft">From the oldest kept message to the end.</p>
      <div className="max-w-5xl space-y-3">
        {partitions.map((p, i) => (
          <div key={p.partition} className="grid grid-cols-[3rem_1fr_7rem] items-end gap-3">
            <span className="address">#{p.partition}</span>
            <Pennants
              first={p.first}
              end={p.end}
              pennants={all.flatMap((g) => {
                const at = g.partitions?.[i];
                return at
                  ? [
                      {
                        name: g.group,
                        at: at.committed,
                        state: at.state,
                        title: `${many(at.lag, "message")} behind: ${at.verdict}`,
                      },
                    ]
                  : [];
              })}
            />
            <span className="figures text-[length:var(--text-small)] text-soft">end {count(p.end)}</span>
          </div>
        ))}
      </div>
      <p className="mt-3 flex flex-wrap gap-x-4 text-[length:var(--text-small)]">
        {all.map((g) => (
          <Link key={g.address} to={readerPage(g.address)} className="no-underline">
            <Mark state={g.state} word={`${g.group}: ${g.verdict}`} />
          </Link>
        ))}
      </p>
    </>
  );
}
