import type { Quota } from "../api/client";
import { clock, count, rate, size } from "../lib/format";
import { Mark } from "./Mark";

const named: Record<string, string> = {
  mostChannels: "Channels",
  mostPartitions: "Partitions",
  mostKept: "Kept",
  publishRate: "Published",
  readRate: "Read",
  requestRate: "Requests",
  mostStreams: "Streams open",
};

const amount = (q: Quota, n: number) => {
  switch (q.unit) {
    case "bytes":
      return size(n);
    case "bytes-per-second":
      return `${size(n)}/s`;
    case "per-second":
      return `${rate(n)}/s`;
  }
  return count(n);
};

/** How near to its bound something is, in a word as well as by colour; undefined while it is not. */
function nearing(q: Quota): { state: string; word: string } | undefined {
  if (q.most === 0) return undefined;
  if (q.used >= q.most)
    return {
      state: "alarm",
      word: q.name === "mostKept" ? "nothing is taken until it is less" : q.unit ? "more is asked to wait" : "no more come",
    };
  if (q.full) return { state: "attention", word: `all of it is used at ${clock(q.full, false)}, as it grows now` };
  return q.used >= 0.8 * q.most ? { state: "attention", word: `${Math.floor((100 * q.used) / q.most)} % is used` } : undefined;
}

function Nearing({ of }: { of?: { state: string; word: string } }) {
  if (!of) return null;
  return (
    <dd className="col-span-full text-[length:var(--text-small)]">
      <Mark {...of} />
    </dd>
  );
}

/** What is used of what may be, a line each with its length. */
export function Uses({ all }: { all: Quota[] }) {
  return (
    <dl className="max-w-3xl">
      {all.map((q) => (
        <div
          key={q.name}
          className="grid grid-cols-[8rem_1fr_11rem] items-center gap-3 border-b border-hair py-1.5 max-md:grid-cols-[1fr_auto]"
        >
          <dt>{named[q.name] ?? q.name}</dt>
          <dd className="h-2 bg-sunk max-md:hidden" aria-hidden>
            {q.most > 0 && (
              <div
                className={`h-2 ${q.used >= q.most ? "bg-alarm" : "bg-sea"}`}
                style={{ width: `${Math.min(100, (100 * q.used) / q.most)}%` }}
              />
            )}
          </dd>
          <dd className="text-right tabular-nums">
            {amount(q, q.used)}
            {q.most > 0 ? ` of ${amount(q, q.most)}` : <span className="text-soft">, no bound</span>}
          </dd>
          <Nearing of={nearing(q)} />
        </div>
      ))}
    </dl>
  );
}
