import { Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import type { Topic } from "../api/client";
import { pastRates, useLive } from "../api/live";
import { CreateDialog } from "../components/CreateDialog";
import { Command } from "../components/Copy";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { Spark } from "../components/Spark";
import { ago, count, rate, size } from "../lib/format";
import { useUrlState } from "../lib/url";

type Column = {
  key: string;
  title: string;
  figures?: boolean;
  wide?: boolean;
  sort: (t: Topic) => number | string;
  show: (t: Topic, now: number) => React.ReactNode;
};

const columns: Column[] = [
  {
    key: "address",
    title: "Channel",
    sort: (t) => t.address,
    show: (t) => (
      <Link className="address" to={`/channels/${t.address}`}>
        {t.address}
      </Link>
    ),
  },
  { key: "state", title: "State", sort: (t) => t.state, show: (t) => <Mark state={t.state} /> },
  {
    key: "in",
    title: "In, per second",
    figures: true,
    sort: (t) => t.rates.messagesIn,
    show: (t) => (
      <span className="inline-flex items-center justify-end gap-2">
        <span className="max-md:hidden">
          <Spark
            values={pastRates(t.address).map((r) => r.messagesIn)}
            label={`messages in, last minute, now ${rate(t.rates.messagesIn)} a second`}
          />
        </span>
        <span className="inline-block min-w-14">{rate(t.rates.messagesIn)}</span>
      </span>
    ),
  },
  {
    key: "out",
    title: "Out, per second",
    figures: true,
    wide: true,
    sort: (t) => t.rates.messagesOut,
    show: (t) => rate(t.rates.messagesOut),
  },
  { key: "kept", title: "Kept", figures: true, wide: true, sort: (t) => t.messages, show: (t) => count(t.messages) },
  { key: "bytes", title: "On disk", figures: true, wide: true, sort: (t) => t.bytes, show: (t) => size(t.bytes) },
  {
    key: "oldest",
    title: "Oldest",
    figures: true,
    wide: true,
    sort: (t) => (t.oldest ? -Date.parse(t.oldest) : 0),
    show: (t, now) => ago(t.oldest, now),
  },
  {
    key: "partitions",
    title: "Partitions",
    figures: true,
    wide: true,
    sort: (t) => t.partitionCount,
    show: (t) => t.partitionCount,
  },
];

export function Channels() {
  const { live, at } = useLive();
  const [params, change] = useUrlState();
  const [creating, setCreating] = useState(false);
  const filter = params.get("filter") ?? "";
  const space = params.get("space") ?? "";
  const sort = params.get("sort") ?? "address";
  const down = params.get("down") === "1";
  const all = live?.topics ?? [];
  const column = columns.find((c) => c.key === sort) ?? columns[0]!;
  const shown = all
    .filter(
      (t) =>
        (!space || t.space === space) &&
        (
          t.address +
          " " +
          t.description +
          " " +
          Object.entries(t.labels)
            .map((l) => l.join("="))
            .join(" ")
        ).includes(filter.toLowerCase()),
    )
    .sort((a, b) => {
      const [x, y] = [column.sort(a), column.sort(b)];
      const order = typeof x === "number" ? x - (y as number) : x.localeCompare(y as string);
      return (down ? -order : order) || a.address.localeCompare(b.address);
    });
  const spaces = [...new Set(all.map((t) => t.space))].sort();

  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="mr-auto">Channels</h1>
        {all.length > 0 && (
          <>
            <select className="field w-auto" aria-label="Space" value={space} onChange={(e) => change({ space: e.target.value })}>
              <option value="">all spaces</option>
              {spaces.map((s) => (
                <option key={s}>{s}</option>
              ))}
            </select>
            <input
              className="field w-52"
              type="search"
              placeholder="name or label"
              aria-label="Filter"
              value={filter}
              onChange={(e) => change({ filter: e.target.value })}
            />
          </>
        )}
        <button className="button" data-main onClick={() => setCreating(true)}>
          <Plus size={16} aria-hidden /> New channel
        </button>
      </div>
      {!live && <Notice title="Waiting for the first figures" />}
      {live && all.length === 0 && (
        <Notice title="There are no channels yet.">
          <p>A topic is a log that many groups read, each at its own pace. Make the first one with the button above, or with</p>
          <Command text={"ferry new space coldchain\nferry new topic coldchain/readings -partitions 6"} />
        </Notice>
      )}
      {all.length > 0 && (
        <div className="overflow-x-auto">
          <table className="timetable">
            <thead>
              <tr>
                {columns.map((c) => (
                  <th
                    key={c.key}
                    scope="col"
                    className={`${c.figures ? "figures" : ""} ${c.wide ? "max-md:hidden" : ""}`}
                    aria-sort={c === column ? (down ? "descending" : "ascending") : "none"}
                  >
                    <button
                      type="button"
                      className="font-semibold hover:text-ink"
                      onClick={() => change({ sort: c.key, down: c === column && !down ? "1" : "" })}
                    >
                      {c.title}
                      <span aria-hidden="true">{c === column ? (down ? " ↓" : " ↑") : ""}</span>
                    </button>
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {shown.map((t) => (
                <tr key={t.address}>
                  {columns.map((c) => (
                    <td key={c.key} className={`${c.figures ? "figures" : ""} ${c.wide ? "max-md:hidden" : ""}`}>
                      {c.show(t, at)}
                      {c.key === "address" && t.description && (
                        <div className="max-w-md truncate text-[length:var(--text-small)] text-soft max-md:hidden">
                          {t.description}
                        </div>
                      )}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          {shown.length === 0 && <p className="py-6 text-soft">No channel fits “{filter || space}”.</p>}
        </div>
      )}
      {creating && <CreateDialog onClose={() => setCreating(false)} space={space} />}
    </>
  );
}
