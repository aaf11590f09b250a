import { Link } from "react-router";
import type { Partition, Channel } from "../api/client";
import { Berths, berthsOf, lacks, ReplicaLegend, ReplicaMark } from "../components/Berths";
import { Mark } from "../components/Mark";
import { type Column, Timetable } from "../components/Timetable";
import { ago, count, rate, size, words } from "../lib/format";

const Others = ({ replicas }: { replicas: Partition["replicas"] }) => (
  <span className="flex flex-wrap gap-x-3">
    {replicas
      .filter((r) => r.state !== "leads")
      .map((r) => (
        <span key={r.node} className="inline-flex items-center gap-1 whitespace-nowrap">
          <ReplicaMark state={r.state} />
          {r.node}{" "}
          <span className="text-[length:var(--text-small)] text-soft">{r.state === "in-step" ? "" : words(r.state)}</span>
          {lacks(r) && r.state !== "in-step" && <span className="text-[length:var(--text-small)] text-soft">{lacks(r)}</span>}
        </span>
      ))}
    {replicas.length < 2 && <span className="text-soft">none</span>}
  </span>
);

const columnsOf = (address: string, most: number): Column<Partition>[] => [
  {
    key: "partition",
    title: "Partition",
    show: (p) => (
      <Link className="address" to={`/channels/${address}?partition=${p.partition}`}>
        #{p.partition}
      </Link>
    ),
  },
  { key: "state", title: "State", show: (p) => <Mark state={p.state} /> },
  { key: "leader", title: "Leader", className: "whitespace-nowrap", show: (p) => p.leader || "–" },
  { key: "others", title: "Other replicas", show: (p) => <Others replicas={p.replicas} /> },
  { key: "first", title: "First", figures: true, show: (p) => count(p.first) },
  { key: "end", title: "End", figures: true, show: (p) => count(p.end) },
  { key: "kept", title: "Kept", figures: true, show: (p) => count(p.messages) },
  {
    key: "share",
    title: "Share",
    className: "w-32",
    show: (p) => (
      <svg viewBox="0 0 100 6" preserveAspectRatio="none" className="h-1.5 w-full" aria-hidden="true">
        <rect width="100" height="6" fill="var(--sunk)" />
        <rect width={(p.messages / most) * 100} height="6" fill="var(--sea)" />
      </svg>
    ),
  },
  { key: "bytes", title: "On disk", figures: true, show: (p) => size(p.bytes) },
  { key: "oldest", title: "Oldest", figures: true, show: (p) => ago(p.oldest) },
  { key: "in", title: "In, per second", figures: true, show: (p) => rate(p.rates.messagesIn) },
  { key: "out", title: "Out, per second", figures: true, show: (p) => rate(p.rates.messagesOut) },
];

export function Partitions({ topic }: { topic: Channel }) {
  const most = Math.max(...(topic.partitions ?? []).map((p) => p.messages), 1);
  const partitions = topic.partitions ?? [];
  const nodes = [...new Set(partitions.flatMap((p) => p.replicas.map((r) => r.node)))].sort();
  return (
    <>
      {nodes.length > 1 && (
        <section className="mb-5">
          <h2 className="mb-1">Who leads and who follows</h2>
          <Berths nodes={nodes} berths={berthsOf(partitions)} />
          <div className="mt-2">
            <ReplicaLegend states={["leads", "in-step", "catching-up", "behind", "joining", "away"]} />
          </div>
        </section>
      )}
      <Timetable label="Partitions" columns={columnsOf(topic.address, most)} rows={partitions} rowKey={(p) => p.partition} />
    </>
  );
}
