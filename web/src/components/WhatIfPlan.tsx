import { useQuery } from "@tanstack/react-query";
import { explain, get, type Node, type WhatIf } from "../api/client";
import { count, many } from "../lib/format";
import { Toggle } from "./Toggle";
import { useUrlState } from "../lib/url";
import { type Berth, Berths, ReplicaLegend } from "./Berths";
import { Command } from "./Copy";
import { Failure } from "./Failure";
import { Mark } from "./Mark";

const outcomes = {
  writable: { state: "ready", word: "writable" },
  readable: { state: "attention", word: "only readable" },
  unreachable: { state: "failed", word: "unreachable" },
} as const;

// Beyond so many partitions the plan is only counted, not drawn.
const mostDrawn = 240;

/** What would be without some nodes, and what would help. */
export function WhatIfPlan({ nodes }: { nodes: Node[] }) {
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
        const state = off.has(n) ? "away" : i === 0 ? "leads" : "holds";
        return [n, { state, label: `${p.address} on ${n}: ${off.has(n) ? "away" : i === 0 ? "should lead" : "holds"}` }];
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
        <ReplicaLegend states={["leads", "holds", "away"]} as={{ leads: "should lead" }} />
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
