import type { Trace } from "../api/client";
import { clock, span, words } from "../lib/format";
import { Mark } from "./Mark";

type Step = Trace["steps"][number];

// What happened, as a state whose mark it bears.
const marks: Record<string, string> = {
  published: "ready",
  "sent-again": "running",
  leased: "leased",
  accepted: "done",
  rejected: "dead",
  "attempts-used-up": "dead",
  expired: "dead",
  "ran-out": "attention",
  released: "attention",
  returned: "running",
  edited: "running",
  discarded: "discarded",
  "brought-back": "running",
  "sent-on": "paused",
  read: "done",
  routed: "running",
  sent: "running",
  delivered: "done",
  "left-out": "paused",
  "dead-letter": "dead",
  "not-decided-yet": "paused",
  "passed-over": "paused",
  "not-read-yet": "paused",
};

/** The story of a message as a timeline: the oldest first. */
export function Story({ steps }: { steps: Step[] }) {
  return (
    <ol className="relative ml-1 border-l border-strong">
      {steps.map((s, i) => {
        const before = steps[i - 1]?.at;
        const gap = s.at && before ? Date.parse(s.at) - Date.parse(before) : 0;
        return (
          <li key={i} className="relative pb-2 pl-4">
            <span className="absolute top-2 -left-1 size-2 rounded-full border border-strong bg-paper" aria-hidden="true" />
            <div className="flex flex-wrap items-baseline gap-x-3">
              <Mark state={marks[s.event] ?? "unknown"} word={words(s.event)} />
              <span className="text-[length:var(--text-small)] text-soft tabular-nums">
                {s.at && clock(s.at)}
                {gap > 1500 && ` (${span(gap)} later)`}
              </span>
              <span className="text-[length:var(--text-small)]">
                {s.who}
                {s.began && s.at && ` after ${Date.parse(s.at) - Date.parse(s.began)} ms`}
              </span>
            </div>
            {(s.reason || s.detail) && (
              <p className="text-[length:var(--text-small)] break-words whitespace-pre-wrap text-soft">
                {[s.reason, s.detail].filter(Boolean).join(": ")}
              </p>
            )}
          </li>
        );
      })}
    </ol>
  );
}
