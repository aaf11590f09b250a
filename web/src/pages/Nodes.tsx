import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { call, explain, type Cluster, type LeaderChange, type Node, type Preview } from "../api/client";
import { useLive } from "../api/live";
import { Command } from "../components/Copy";
import { Effects } from "../components/Effects";
import { Failure } from "../components/Failure";
import { Jobs } from "../components/Jobs";
import { Mark } from "../components/Mark";
import { Dialog, Notice } from "../components/Panel";
import { Nothing } from "../components/Part";
import { SetAside } from "../components/SetAside";
import { type Column, Timetable } from "../components/Timetable";
import { Toggle } from "../components/Toggle";
import { WhatIfPlan } from "../components/WhatIfPlan";
import { ago, clock, count, many, rate, size } from "../lib/format";

function Summary({ cluster }: { cluster: Cluster }) {
  const away = cluster.nodes.filter((n) => !n.up);
  const text = `${many(cluster.nodes.length, "node")}, ${many(cluster.partitionCount, "partition")}`;
  return (
    <p className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-1">
      <span>{text}</span>
      {cluster.withoutLeader > 0 && (
        <Mark wrap state="failed" word={`taking no messages: ${many(cluster.withoutLeader, "partition")}`} />
      )}
      {cluster.replicasMissing > 0 && (
        <Mark
          wrap
          state="attention"
          word={`${many(cluster.replicasMissing, "partition")} with replicas missing or not in step`}
        />
      )}
      {away.length > 0 && <Mark wrap state="attention" word={`${away.map((n) => n.node).join(", ")} away`} />}
      {cluster.withoutLeader === 0 && cluster.replicasMissing === 0 && away.length === 0 && (
        <Mark wrap state="ready" word="every partition has a leader, and every replica is in step" />
      )}
    </p>
  );
}

const nodeState: Record<string, string> = { up: "ready", draining: "starting", away: "failed" };

const nodeColumns = (nodes: Node[], at: number, onDrain: (n: Node) => void): Column<Node>[] => [
  {
    key: "node",
    title: "Node",
    className: "whitespace-nowrap",
    show: (n) => (
      <>
        <span className="address font-semibold">{n.node}</span>
        {n.self && <span className="text-soft"> answers this page</span>}
      </>
    ),
  },
  {
    key: "state",
    title: "State",
    className: "whitespace-nowrap",
    show: (n) => (
      <>
        <Mark
          state={n.disk.full ? "disk-full" : (nodeState[n.state] ?? "attention")}
          word={n.disk.full ? "disk full" : n.state}
        />
        {n.onDuty && <span className="ml-2 text-[length:var(--text-small)] text-soft">on duty</span>}
      </>
    ),
  },
  { key: "zone", title: "Zone", className: "whitespace-nowrap", show: (n) => n.zone || "–" },
  {
    key: "since",
    title: "Up, or last seen",
    figures: true,
    show: (n) => (n.since ? ago(n.since, at) + (n.up ? "" : " ago") : "–"),
  },
  { key: "leads", title: "Leads", figures: true, show: (n) => count(n.leads) },
  { key: "holds", title: "Holds", figures: true, show: (n) => count(n.holds) },
  {
    key: "behind",
    title: "Not in step",
    figures: true,
    show: (n) => (n.behind > 0 ? <Mark state="attention" word={count(n.behind)} /> : "0"),
  },
  { key: "in", title: "In, per second", figures: true, show: (n) => (n.up ? rate(n.rates.messagesIn) : "–") },
  { key: "out", title: "Out, per second", figures: true, show: (n) => (n.up ? rate(n.rates.messagesOut) : "–") },
  { key: "disk", title: "Disk", figures: true, show: (n) => (n.up ? `${size(n.disk.free)} free` : "–") },
  { key: "memory", title: "Memory", figures: true, show: (n) => (n.up ? size(n.memoryBytes) : "–") },
  {
    key: "catalog",
    title: "Catalog",
    show: (n) => (n.up ? <Mark state={n.catalog === "reachable" ? "ready" : "attention"} word={n.catalog} /> : "–"),
  },
  {
    key: "actions",
    title: "Actions",
    hidden: true,
    show: (n) =>
      n.state === "up" &&
      nodes.length > 1 && (
        <button className="text-sea hover:underline" onClick={() => onDrain(n)}>
          Drain<span className="sr-only"> {n.node}</span>
        </button>
      ),
  },
];

function Changes({ changes, at }: { changes: LeaderChange[]; at: number }) {
  if (changes.length === 0) return <p className="text-soft">No partition has changed its leader since the nodes started.</p>;
  return (
    <ol className="max-h-80 overflow-y-auto" tabIndex={0} aria-label="Changes of leaders">
      {changes.map((c) => (
        <li
          key={c.address + c.term}
          className="grid grid-cols-[6.5rem_minmax(9rem,1fr)_minmax(7rem,1fr)_minmax(10rem,1.4fr)] gap-x-3 border-b border-hair py-1 max-md:grid-cols-1"
        >
          <time className="tabular-nums" dateTime={c.at} title={`${ago(c.at, at)} ago`}>
            {clock(c.at)}
          </time>
          <span className="address break-words">{c.address}</span>
          <span>
            {c.from && c.from !== c.to ? (
              <>
                {c.from} <span aria-label="to">→</span>{" "}
              </>
            ) : null}
            <strong>{c.to}</strong>
          </span>
          <span className="text-soft">{c.reason}</span>
        </li>
      ))}
    </ol>
  );
}

function DrainDialog({ node, onClose }: { node: string; onClose: () => void }) {
  const client = useQueryClient();
  const [leadersOnly, setLeadersOnly] = useState(false);
  const [failed, setFailed] = useState("");
  const preview = useQuery({
    queryKey: ["drain", node, leadersOnly],
    queryFn: () => call<Preview>("POST", `/nodes/${node}/drain?preview=true`, { leadersOnly }),
    retry: false,
  });
  const drain = async () => {
    try {
      await call<Preview>("POST", `/nodes/${node}/drain`, { leadersOnly });
      await client.invalidateQueries({ queryKey: ["jobs"] });
      onClose();
    } catch (error) {
      setFailed(explain(error));
    }
  };
  return (
    <Dialog open onClose={onClose} title={`Drain ${node}`} about="Empty a node before it is stopped or taken away.">
      <label className="mb-3 flex items-center gap-2">
        <input type="checkbox" checked={leadersOnly} onChange={(e) => setLeadersOnly(e.target.checked)} />
        only move the leaders; the replicas stay
      </label>
      {preview.data && <Effects preview={preview.data} />}
      <Failure text={failed || (preview.error ? explain(preview.error) : "")} />
      <div className="mt-3 space-y-3">
        <Command text={`ferry nodes drain ${node}${leadersOnly ? " -leaders-only" : ""} -yes`} />
        <button className="button" data-main disabled={!preview.data || !!preview.error} onClick={() => void drain()}>
          Drain it
        </button>
      </div>
    </Dialog>
  );
}

export function NodesPage() {
  const { live, at } = useLive();
  const [draining, setDraining] = useState("");
  const [spreading, setSpreading] = useState<Preview>();
  if (!live) return <Notice title="Waiting for the first figures" />;
  const cluster = live.cluster;
  if (cluster.nodes.length === 0)
    return (
      <>
        <h1 className="mb-1">What is running</h1>
        <Nothing what="node" on="nodes">
          {null}
        </Nothing>
      </>
    );
  const spread = async (on: boolean) => {
    try {
      setSpreading(await call<Preview>("PATCH", "/nodes?preview=true", { spreadLeaders: on }));
    } catch (error) {
      toast.error(explain(error));
    }
  };
  const doSpread = async () => {
    try {
      await call("PATCH", "/nodes", spreading!.after);
      setSpreading(undefined);
    } catch (error) {
      toast.error(explain(error));
    }
  };
  return (
    <>
      <h1 className="mb-1">What is running</h1>
      <Summary cluster={cluster} />
      <SetAside />
      <Timetable
        label="Nodes"
        columns={nodeColumns(cluster.nodes, at, (n) => setDraining(n.node))}
        rows={cluster.nodes}
        rowKey={(n) => n.node}
      />
      {cluster.nodes.length > 1 && (
        <label className="mt-3 flex items-center gap-2">
          <Toggle on={cluster.spreadLeaders} label="Spread leaders" onChange={(on) => void spread(on)} />
          give leaders back to the nodes that should lead, when those have come back
        </label>
      )}
      {spreading && (
        <Dialog open onClose={() => setSpreading(undefined)} title="Spread leaders" about="Nothing is changed yet.">
          <ul className="list-disc pl-5">
            {spreading.effects.map((e) => (
              <li key={e}>{e}</li>
            ))}
          </ul>
          <div className="mt-3 flex justify-end gap-3">
            <button className="button" onClick={() => setSpreading(undefined)}>
              Cancel
            </button>
            <button className="button" data-main onClick={() => void doSpread()}>
              Change it
            </button>
          </div>
        </Dialog>
      )}
      {cluster.nodes.length === 1 && (
        <div className="mt-4 max-w-2xl">
          <p className="mb-2 text-soft">
            One node: what is published is on one disk. More nodes on the same database form a cluster, and topics can have
            replicas.
          </p>
          <Command text="make demo-cluster" />
        </div>
      )}
      <section className="mt-7">
        <h2 className="mb-1">What if</h2>
        <WhatIfPlan nodes={cluster.nodes} />
      </section>
      <div className="mt-7 grid grid-cols-[minmax(0,1fr)] gap-x-10 gap-y-7 xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <section>
          <h2 className="mb-1">Changes of leaders</h2>
          <Changes changes={live.changes} at={at} />
        </section>
        <section>
          <h2 className="mb-1">Moves</h2>
          <Jobs />
        </section>
      </div>
      {draining && <DrainDialog node={draining} onClose={() => setDraining("")} />}
    </>
  );
}
