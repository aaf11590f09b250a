import type { Partition, Replica } from "../api/client";
import { many, size, span, words } from "../lib/format";

type Shape = "leads" | "in-step" | "catching-up" | "behind" | "joining" | "leaving" | "away" | "holds" | "holds";

// A pennant leads; a filled circle is in step; half a circle is on its way; a
// triangle is behind; a dotted ring comes or goes; a crossed square is away.
const shapes: Record<Shape, { drawing: React.ReactNode; colour: string }> = {
  leads: {
    drawing: <path d="M2 1v10M2 1.500 11 4.500 2 7.500z" fill="currentColor" stroke="currentColor" />,
    colour: "text-sea",
  },
  "in-step": { drawing: <circle cx="6" cy="6" r="4.500" fill="currentColor" />, colour: "text-order" },
  holds: { drawing: <circle cx="6" cy="6" r="4.500" fill="currentColor" />, colour: "text-order" },
  "catching-up": {
    drawing: (
      <>
        <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="1.500" />
        <path d="M6 2a4 4 0 0 1 0 8z" fill="currentColor" />
      </>
    ),
    colour: "text-working",
  },
  behind: { drawing: <path d="M6 1.500 11 10.500H1z" fill="currentColor" />, colour: "text-attention" },
  joining: {
    drawing: <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="1.500" strokeDasharray="2 1.600" />,
    colour: "text-working",
  },
  leaving: {
    drawing: <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="1.500" strokeDasharray="2 1.600" />,
    colour: "text-stopped",
  },
  away: {
    drawing: (
      <path d="M1.500 1.500h9v9h-9zM1.500 1.500l9 9M10.500 1.500l-9 9" fill="none" stroke="currentColor" strokeWidth="1.500" />
    ),
    colour: "text-alarm",
  },
};

export function ReplicaMark({ state, label }: { state: string; label?: string }) {
  const s = shapes[state as Shape] ?? shapes.behind;
  return (
    <svg
      width="12"
      height="12"
      viewBox="0 0 12 12"
      className={`inline-block shrink-0 ${s.colour}`}
      role={label ? "img" : undefined}
      aria-label={label}
      aria-hidden={label ? undefined : true}
    >
      {label && <title>{label}</title>}
      {s.drawing}
    </svg>
  );
}

/** What the shapes mean. */
export function ReplicaLegend({ states, as = {} }: { states: string[]; as?: Record<string, string> }) {
  return (
    <p className="flex flex-wrap gap-x-4 gap-y-1 text-[length:var(--text-small)] text-soft">
      {states.map((s) => (
        <span key={s} className="inline-flex items-center gap-1.5">
          <ReplicaMark state={s} /> {as[s] ?? words(s)}
        </span>
      ))}
    </p>
  );
}

export function lacks(r: Replica): string {
  if (r.behindMessages === null) return "";
  if (r.behindMessages === 0) return "";
  return `${many(r.behindMessages, "message")}, ${size(r.behindBytes)}, ${span(r.behindSeconds * 1000)} behind`;
}

export type Berth = { column: string; label: string; of: Record<string, { state: string; label: string }> };

/** The berths of a topic's partitions: who leads and who follows. */
export function berthsOf(partitions: Partition[]): Berth[] {
  return partitions.map((p) => ({
    column: String(p.partition),
    label: p.address,
    of: Object.fromEntries(
      p.replicas.map((r) => [
        r.node,
        { state: r.state, label: `${p.address} on ${r.node}: ${words(r.state)}${lacks(r) ? `, ${lacks(r)}` : ""}` },
      ]),
    ),
  }));
}

// Names that do not fit over the columns of their partitions stand upright.
const charactersOver = 3; // a column
const standing = "inline-block max-h-60 rotate-180 truncate [writing-mode:vertical-rl]";

/** A berth plan: a row for each node, a column for each partition, and in
 *  every place what lies there. lead is what stands before a node's name. */
export function Berths({
  nodes,
  berths,
  lead,
  foot,
}: {
  nodes: string[];
  berths: Berth[];
  lead?: (node: string) => React.ReactNode;
  foot?: { name: string; cells: React.ReactNode[] };
}) {
  // Partitions of several topics stand in groups under the names of these.
  const groups: { topic: string; size: number }[] = [];
  const starts = new Set<number>();
  berths.forEach((b, i) => {
    const topic = b.label.replace(/#.*$/, "");
    const last = groups.at(-1);
    if (last?.topic === topic) last.size++;
    else {
      groups.push({ topic, size: 1 });
      if (i > 0) starts.add(i);
    }
  });
  const edge = (i: number) => (starts.has(i) ? "border-l border-l-strong" : "");
  return (
    <div className="relative overflow-x-auto" role="region" aria-label="Where the replicas are" tabIndex={0}>
      <table className="border-collapse">
        <thead>
          {groups.length > 1 && (
            <tr>
              <td />
              {groups.map((g, i) => (
                <th
                  key={g.topic}
                  scope="colgroup"
                  colSpan={g.size}
                  title={g.topic}
                  className={`px-1 text-left align-bottom font-mono text-[0.7rem] font-normal ${i > 0 ? "border-l border-l-strong" : ""}`}
                >
                  <span className={g.topic.length > charactersOver * g.size ? standing : "block max-w-0 whitespace-nowrap"}>
                    {g.topic}
                  </span>
                </th>
              ))}
            </tr>
          )}
          <tr>
            <th
              scope="col"
              className="sticky left-0 bg-paper pr-4 text-left text-[length:var(--text-small)] font-semibold text-soft"
            >
              Node
            </th>
            {berths.map((b, i) => (
              <th
                key={b.label}
                scope="col"
                title={b.label}
                className={`min-w-6 px-0.5 text-center font-mono text-[0.7rem] font-normal text-soft ${edge(i)}`}
              >
                {b.column}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {nodes.map((n) => (
            <tr key={n}>
              <th
                scope="row"
                className="sticky left-0 border-b border-hair bg-paper py-1 pr-4 text-left font-normal whitespace-nowrap"
              >
                <span className="inline-flex items-center gap-2">
                  {lead?.(n)}
                  {n}
                </span>
              </th>
              {berths.map((b, i) => {
                const at = b.of[n];
                return (
                  <td key={b.label} className={`border-b border-b-hair px-0.5 text-center ${edge(i)}`}>
                    {at ? <ReplicaMark state={at.state} label={at.label} /> : <span className="text-hair">·</span>}
                  </td>
                );
              })}
            </tr>
          ))}
          {foot && (
            <tr>
              <th scope="row" className="sticky left-0 bg-paper py-1 pr-4 text-left font-semibold whitespace-nowrap">
                {foot.name}
              </th>
              {foot.cells.map((c, i) => (
                <td key={berths[i]?.label} className={`px-0.5 text-center ${edge(i)}`}>
                  {c}
                </td>
              ))}
            </tr>
          )}
        </tbody>
      </table>
    </div>
  );
}
