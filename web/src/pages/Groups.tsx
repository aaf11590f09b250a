import { Link } from "react-router";
import type { Group } from "../api/client";
import { pastLag, useLive } from "../api/live";
import { Command } from "../components/Copy";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { Spark } from "../components/Spark";
import { count, rate, span } from "../lib/format";
import { useUrlState } from "../lib/url";

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

const wide = "max-md:hidden";

export function GroupTable({ groups }: { groups: Group[] }) {
  return (
    <div className="relative overflow-x-auto" role="region" aria-label="Groups" tabIndex={0}>
      <table className="timetable">
        <thead>
          <tr>
            <th scope="col">Group</th>
            <th scope="col" className="md:min-w-52">
              How it does
            </th>
            <th scope="col" className="figures">
              Lag, messages
            </th>
            <th scope="col" className="figures">
              Oldest unread
            </th>
            <th scope="col" className={`figures ${wide}`}>
              In, per second
            </th>
            <th scope="col" className={`figures ${wide}`}>
              Read, per second
            </th>
            <th scope="col" className={`figures ${wide}`}>
              Members
            </th>
            <th scope="col" className={wide}>
              Loses data in
            </th>
          </tr>
        </thead>
        <tbody>
          {groups.map((g) => (
            <tr key={g.address}>
              <td>
                <Link className="address max-md:whitespace-normal" to={`/groups/${g.channel}/${g.group}`}>
                  {g.channel}
                  <wbr />@{g.group}
                </Link>
                {g.description && (
                  <div className={`max-w-md truncate text-[length:var(--text-small)] text-soft ${wide}`}>{g.description}</div>
                )}
              </td>
              <td>
                <Mark state={g.state} word={g.verdict} wrap />
              </td>
              <td className="figures">
                <span className="inline-flex items-center justify-end gap-2">
                  <span className={wide}>
                    <Spark values={pastLag(g.address)} label={`lag, last minute, now ${count(g.lag)}`} />
                  </span>
                  <span className="inline-block min-w-14">{count(g.lag)}</span>
                </span>
              </td>
              <td className="figures whitespace-nowrap">{unread(g.lagSeconds)}</td>
              <td className={`figures ${wide}`}>{rate(g.arrivalRate)}</td>
              <td className={`figures ${wide}`}>{rate(g.commitRate)}</td>
              <td className={`figures ${wide}`}>{g.memberCount}</td>
              <td className={`whitespace-nowrap ${wide}`}>{loses(g)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** All groups of all topics, the worst first. */
export function Groups() {
  const { live } = useLive();
  const [params, change] = useUrlState();
  const filter = params.get("filter") ?? "";
  const all = live?.groups ?? [];
  const shown = all.filter((g) => `${g.address} ${g.description} ${g.verdict}`.includes(filter.toLowerCase()));
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1>Groups</h1>
        <p className="mr-auto text-soft">the worst first</p>
        {all.length > 0 && (
          <input
            className="field w-60"
            type="search"
            placeholder="name or how it does"
            aria-label="Filter"
            value={filter}
            onChange={(e) => change({ filter: e.target.value })}
          />
        )}
      </div>
      {!live && <Notice title="Waiting for the first figures" />}
      {live && all.length === 0 && (
        <Notice title="No group reads anything yet.">
          <p>A group remembers how far it has read a topic. The first read makes it:</p>
          <Command text="ferry read coldchain/readings@compliance -from first" />
        </Notice>
      )}
      {all.length > 0 && <GroupTable groups={shown} />}
      {all.length > 0 && shown.length === 0 && <p className="py-6 text-soft">No group fits “{filter}”.</p>}
    </>
  );
}
