import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Switch } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import {
  call,
  explain,
  get,
  type Cluster,
  type Job,
  type LeaderChange,
  type Node,
  type Preview,
  type WhatIf,
} from "../api/client";
import { useLive } from "../api/live";
import { type Berth, Berths, ReplicaLegend } from "../components/Berths";
import { Command } from "../components/Copy";
import { Effects } from "../components/Effects";
import { Failure } from "../components/Failure";
import { Mark } from "../components/Mark";
import { Dialog, Notice } from "../components/Panel";
import { SetAside } from "../components/SetAside";
import { ago, clock, count, many, rate, size } from "../lib/format";
import { useUrlState } from "../lib/url";

function Toggle({ on, label, onChange }: { on: boolean; label: string; onChange: (on: boolean) => void }) {
  return (
    <Switch.Root
      checked={on}
      onCheckedChange={onChange}
      aria-label={label}
      className="relative h-5 w-9 shrink-0 rounded-full border border-strong bg-sunk data-[state=checked]:bg-sea"
    >
      <Switch.Thumb className="block size-3.5 translate-x-0.5 rounded-full bg-ink transition-transform data-[state=checked]:translate-x-[1.15rem] data-[state=checked]:bg-onsea" />
    </Switch.Root>
  );
}

function Summary({ cluster }: { cluster: Cluster }) {
  const away = cluster.nodes.filter((n) => !n.up);
  const text = `${many(cluster.nodes.length, "node")}, ${many(cluster.partitions, "partition")}`;
  return (
    <p className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-1">
      <span>{text}</span>
      {cluster.leaderless > 0 && (
        <Mark wrap state="failed" word={`taking no messages: ${many(cluster.leaderless, "partition")}`} />
      )}
      {cluster.fewer > 0 && (
        <Mark wrap state="attention" word={`${many(cluster.fewer, "partition")} with replicas missing or not in step`} />
      )}
      {away.length > 0 && <Mark wrap state="attention" word={`${away.map((n) => n.node).join(", ")} away`} />}
      {cluster.leaderless === 0 && cluster.fewer === 0 && away.length === 0 && (
        <Mark wrap state="ready" word="every partition has a leader, and every replica is in step" />
      )}
    </p>
  );
}

const nodeState: Record<string, string> = { up: "ready", draining: "starting", away: "failed" };

function NodeTable({ nodes, at, onDrain }: { nodes: Node[]; at: number; onDrain: (n: Node) => void }) {
  const headings: [string, boolean][] = [
    ["Node", false],
    ["State", false],
    ["Zone", false],
    ["Up, or last seen", true],
    ["Leads", true],
    ["Holds", true],
    ["Not in step", true],
    ["In, per second", true],
    ["Out, per second", true],
    ["Disk", true],
    ["Memory", true],
    ["Records", false],
    ["", false],
  ];
  return (
    <div className="relative overflow-x-auto" role="region" aria-label="Nodes" tabIndex={0}>
      <table className="timetable">
        <thead>
          <tr>
            {headings.map(([h, figures]) => (
              <th key={h} scope="col" className={figures ? "figures" : ""}>
                {h || <span className="sr-only">Actions</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {nodes.map((n) => (
            <tr key={n.node}>
              <td className="whitespace-nowrap">
                <span className="address font-semibold">{n.node}</span>
                {n.self && <span className="text-soft"> answers this page</span>}
              </td>
              <td>
                <Mark
                  state={n.disk.full ? "disk full" : (nodeState[n.state] ?? "attention")}
                  word={n.disk.full ? "disk full" : n.state}
                />
                {n.onDuty && <span className="ml-2 text-[length:var(--text-small)] text-soft">on duty</span>}
              </td>
              <td>{n.zone || "–"}</td>
              <td className="figures">{n.since ? ago(n.since, at) + (n.up ? "" : " ago") : "–"}</td>
              <td className="figures">{count(n.leads)}</td>
              <td className="figures">{count(n.holds)}</td>
              <td className="figures">{n.behind > 0 ? <Mark state="attention" word={count(n.behind)} /> : "0"}</td>
              <td className="figures">{n.up ? rate(n.rates.messagesIn) : "–"}</td>
              <td className="figures">{n.up ? rate(n.rates.messagesOut) : "–"}</td>
              <td className="figures">{n.up ? `${size(n.disk.free)} free` : "–"}</td>
              <td className="figures">{n.up ? size(n.memoryBytes) : "–"}</td>
              <td>{n.up ? <Mark state={n.records === "here" ? "ready" : "attention"} word={n.records} /> : "–"}</td>
              <td>
                {n.state === "up" && nodes.length > 1 && (
                  <button className="text-sea hover:underline" onClick={() => onDrain(n)}>
                    Drain<span className="sr-only"> {n.node}</span>
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const outcomes = {
  writable: { state: "ready", word: "writable" },
  readable: { state: "attention", word: "only readable" },
  unreachable: { state: "failed", word: "unreachable" },
} as const;

// Beyond so many partitions the plan is only counted, not drawn.
const mostDrawn = 240;

function WhatIfPlan({ nodes }: { nodes: Node[] }) {
  const [params, change] = useUrlState();
  const away = nodes.filter((n) => !n.up).map((n) => n.node);
  const off = new Set((params.get("without") ?? away.join(",")).split(",").filter(Boolean));
  const without = nodes
    .map((n) => n.node)
    .filter((n) => off.has(n))
    .join(",");
  const answer = useQuery({
    queryKey: ["what-if", without],
    queryFn: () => get<WhatIf>(`/nodes/what-if?without=${encodeURIComponent(without)}`),
    refetchInterval: 5000,
    placeholderData: (old) => old,
  });
  const w = answer.data;
  const toggle = (node: string, on: boolean) => {
    const next = nodes.map((n) => n.node).filter((n) => (n === node ? !on : off.has(n)));
    change({ without: next.length > 0 ? next.join(",") : away.length > 0 ? "," : "" });
  };
  if (!w) return <Failure text={answer.error ? explain(answer.error) : ""} />;
  const total = w.partitions.length;
  const berths: Berth[] = w.partitions.map((p) => ({
    column: p.address.replace(/^.*#/, ""),
    label: p.address,
    of: Object.fromEntries(
      p.nodes.map((n, i) => {
        const state = off.has(n) ? "lost" : i === 0 ? "leads" : "holds";
        return [n, { state, label: `${p.address} on ${n}: ${off.has(n) ? "lost" : i === 0 ? "should lead" : "holds"}` }];
      }),
    ),
  }));
  return (
    <>
      <p className="mb-2 text-soft">
        Switch nodes off to see what their loss would mean. Nothing is touched: it is worked out from where the replicas are.
      </p>
      {total <= mostDrawn ? (
        <Berths
          nodes={nodes.map((n) => n.node)}
          berths={berths}
          lead={(n) => <Toggle on={!off.has(n)} label={`with ${n}`} onChange={(on) => toggle(n, on)} />}
          foot={{
            name: "would be",
            cells: w.partitions.map((p) => (
              <span key={p.address} title={`${p.address}: ${outcomes[p.outcome].word}`}>
                <Mark state={outcomes[p.outcome].state} word="" />
                <span className="sr-only">{outcomes[p.outcome].word}</span>
              </span>
            )),
          }}
        />
      ) : (
        <ul className="space-y-1">
          {nodes.map((n) => (
            <li key={n.node} className="flex items-center gap-2">
              <Toggle on={!off.has(n.node)} label={`with ${n.node}`} onChange={(on) => toggle(n.node, on)} />
              {n.node}
            </li>
          ))}
        </ul>
      )}
      <div className="mt-2">
        <ReplicaLegend states={["leads", "holds", "lost"]} words={{ leads: "should lead" }} />
      </div>
      <p className="mt-3 flex flex-wrap gap-x-5 gap-y-1" role="status">
        <strong>{off.size > 0 ? `Without ${[...off].join(" and ")}:` : "With all nodes:"}</strong>
        {(["writable", "readable", "unreachable"] as const).map((o) =>
          w[o] > 0 ? (
            <Mark key={o} state={outcomes[o].state} word={`${count(w[o])} ${outcomes[o].word}`} />
          ) : (
            <span key={o} className="text-soft">
              0 {outcomes[o].word}
            </span>
          ),
        )}
      </p>
      <p className="mt-1 text-soft">
        As it is now, any one node may be lost for {count(w.nodeSafe)} of {many(total, "partition")}, any one zone for{" "}
        {count(w.zoneSafe)}.
        {w.nodesShort > 0 &&
          ` ${w.nodesShort === 1 ? "One more node is" : `${w.nodesShort} more nodes are`} needed before moves can make any one node dispensable.`}
        {w.zonesShort > 0 &&
          ` ${w.zonesShort === 1 ? "One more zone is" : `${w.zonesShort} more zones are`} needed before any one zone can be.`}
        {w.moves.length === 0 && w.nodesShort === 0 && " No move is needed."}
      </p>
      {w.moves.length > 0 && (
        <div className="mt-2">
          <p className="mb-1">{count(w.moves.length)} moves would make any one node dispensable:</p>
          <Command
            text={w.moves
              .slice(0, 12)
              .map((m) => `ferry move ${m.address} -to ${m.to.join(",")} -yes`)
              .join("\n")}
          />
          {w.moves.length > 12 && (
            <p className="text-soft">and {count(w.moves.length - 12)} more: ferry nodes what-if lists them.</p>
          )}
        </div>
      )}
    </>
  );
}

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

const jobState: Record<string, string> = {
  running: "starting",
  cancelling: "starting",
  done: "ready",
  cancelled: "paused",
  failed: "failed",
};

function Jobs() {
  const client = useQueryClient();
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: () => get<{ items: Job[] }>("/jobs?limit=8"), refetchInterval: 1000 });
  const cancel = async (j: Job) => {
    try {
      await call<Job>("POST", `/jobs/${j.job}/cancel`);
      await client.invalidateQueries({ queryKey: ["jobs"] });
    } catch (error) {
      toast.error(explain(error));
    }
  };
  const items = jobs.data?.items ?? [];
  if (items.length === 0)
    return (
      <>
        <p className="mb-2 text-soft">Nothing is being moved. Jobs are made by</p>
        <Command
          text={
            "ferry set coldchain/readings -replicas 3\nferry move coldchain/readings#3 -to node-a,node-b,node-c\nferry nodes drain node-b"
          }
        />
      </>
    );
  return (
    <ul>
      {items.map((j) => (
        <li key={j.job} className="border-b border-hair py-1.5">
          <div className="flex flex-wrap items-center gap-x-3">
            <span className="tabular-nums">{j.job}</span>
            <strong>{j.kind}</strong>
            <span className="address">{j.address}</span>
            <Mark state={jobState[j.state] ?? "attention"} word={j.state} />
            <span className="tabular-nums">
              {count(j.done)} of {many(j.steps.length, "partition")}
            </span>
            <span className="text-soft">
              {j.who}, {clock(j.madeAt, false)}
            </span>
            {j.state === "running" && (
              <button className="text-sea hover:underline" onClick={() => void cancel(j)}>
                Cancel<span className="sr-only"> job {j.job}</span>
              </button>
            )}
          </div>
          {j.state === "running" && (
            <svg viewBox="0 0 100 3" preserveAspectRatio="none" className="mt-1 h-1 w-full" aria-hidden="true">
              <rect width="100" height="3" fill="var(--sunk)" />
              <rect width={(100 * j.done) / Math.max(j.steps.length, 1)} height="3" fill="var(--sea)" />
            </svg>
          )}
        </li>
      ))}
    </ul>
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
  if (!live) return <Notice title="Waiting for the first figures" />;
  const cluster = live.cluster;
  const spread = async (on: boolean) => {
    try {
      await call("PUT", "/nodes/spread", { on });
    } catch (error) {
      toast.error(explain(error));
    }
  };
  return (
    <>
      <h1 className="mb-1">What is running</h1>
      <Summary cluster={cluster} />
      <SetAside />
      <NodeTable nodes={cluster.nodes} at={at} onDrain={(n) => setDraining(n.node)} />
      {cluster.nodes.length > 1 && (
        <label className="mt-3 flex items-center gap-2">
          <Toggle on={cluster.spreadLeaders} label="Spread leaders" onChange={(on) => void spread(on)} />
          give leaders back to the nodes that should lead, when those have come back
        </label>
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
