import { useQuery, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { call, explain, get, type Job } from "../api/client";
import { clock, count, many } from "../lib/format";
import { Command } from "./Copy";
import { Mark } from "./Mark";

const jobState: Record<string, string> = {
  running: "starting",
  cancelling: "starting",
  done: "ready",
  cancelled: "paused",
  failed: "failed",
};

/** The seeks of replicas that run, and those that ended last. */
export function Jobs() {
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
        <p className="mb-2 text-soft">Nothing is being moved. Jobs come from</p>
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
              {j.who}, {clock(j.createdAt, false)}
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
