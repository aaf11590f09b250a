// Lays a chart out beside the page, which goes on answering meanwhile.
import { Graph, layout } from "@dagrejs/dagre";
import { type Layout, type Link, type Sized, wayKey } from "./layout";

self.onmessage = (e: MessageEvent<{ number: number; things: Sized[]; links: Link[] }>) => {
  const { number, things, links } = e.data;
  const g = new Graph({ multigraph: false });
  g.setGraph({ rankdir: "LR", nodesep: 18, ranksep: 54, marginx: 8, marginy: 8 });
  g.setDefaultEdgeLabel(() => ({}));
  for (const t of things) g.setNode(t.id, { width: t.width, height: t.height });
  for (const l of links) g.setEdge(l.from, l.to);
  layout(g);
  const out: Layout = { width: g.graph().width ?? 0, height: g.graph().height ?? 0, at: {}, ways: {} };
  for (const t of things) {
    const { x, y } = g.node(t.id);
    out.at[t.id] = { x, y };
  }
  for (const l of links) out.ways[wayKey(l)] = g.edge(l.from, l.to).points;
  self.postMessage({ number, layout: out });
};
