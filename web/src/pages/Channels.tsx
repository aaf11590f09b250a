import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Channel } from "../api/client";
import { pastRates, useLive } from "../api/live";
import { CreateDialog } from "../components/CreateDialog";
import { Command } from "../components/Copy";
import { Mark } from "../components/Mark";
import { ListPage } from "../components/ListPage";
import { Notice } from "../components/Panel";
import { Spark } from "../components/Spark";
import type { Column } from "../components/Timetable";
import { ago, count, rate, size } from "../lib/format";
import { useUrlState } from "../lib/url";

const columns: Column<Channel>[] = [
  {
    key: "address",
    title: "Channel",
    sort: (t) => t.address,
    show: (t) => (
      <>
        <Link className="address" to={`/channels/${t.address}`}>
          {t.address}
        </Link>
        {t.description && (
          <div className="max-w-md truncate text-[length:var(--text-small)] text-soft max-md:hidden">{t.description}</div>
        )}
      </>
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
    show: (t) => ago(t.oldest),
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

const textOf = (t: Channel) =>
  `${t.address} ${t.description} ${Object.entries(t.labels)
    .map((l) => l.join("="))
    .join(" ")}`;

export function Channels() {
  const { live } = useLive();
  const [params, change] = useUrlState();
  const [creating, setCreating] = useState(false);
  const space = params.get("space") ?? "";
  const all = live?.channels;
  const rows = useMemo(() => (space ? all?.filter((t) => t.space === space) : all), [all, space]);
  const spaces = useMemo(() => [...new Set(all?.map((t) => t.space))].sort(), [all]);
  return (
    <>
      <ListPage
        title="Channels"
        what="channel"
        rows={rows}
        columns={columns}
        order="address"
        rowKey={(t) => t.address}
        text={textOf}
        placeholder="name or label"
        maker={{ verb: "new", name: "New channel", open: () => setCreating(true) }}
        tools={
          <>
            {space && <Link to={`/spaces/${space}`}>What {space} uses</Link>}
            {spaces.length > 0 && (
              <select
                className="field w-auto"
                aria-label="Space"
                value={space}
                onChange={(e) => change({ space: e.target.value })}
              >
                <option value="">all spaces</option>
                {spaces.map((s) => (
                  <option key={s}>{s}</option>
                ))}
              </select>
            )}
          </>
        }
        empty={
          <Notice title={space ? `There are no channels in ${space}.` : "There are no channels yet."}>
            <p>
              A topic is a log that many groups read, each at its own pace. Create the first one with the button above, or with
            </p>
            <Command text={"ferry new space coldchain\nferry new topic coldchain/readings -partitions 6"} />
          </Notice>
        }
      />
      {creating && <CreateDialog onClose={() => setCreating(false)} space={space} />}
    </>
  );
}
