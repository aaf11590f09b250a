import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, explain, get, type Second } from "../api/client";
import { clock } from "../lib/format";
import { act } from "./Act";
import { Command } from "./Copy";
import { Effects } from "./Effects";
import { Failure } from "./Failure";
import { Mark } from "./Mark";
import { Dialog } from "./Panel";
import type { Column } from "./Timetable";

const marks: Record<Second["state"], "attention" | "running" | "ready" | "failed" | "stopped"> = {
  waiting: "attention",
  begun: "running",
  done: "ready",
  failed: "failed",
  declined: "stopped",
  over: "stopped",
};

/** How what takes a second person is listed. */
export const secondColumns = (open: (one: Second) => void): Column<Second>[] => [
  { key: "who", title: "Asked by", sort: (s) => s.who, show: (s) => <span className="address font-semibold">{s.who}</span> },
  { key: "what", title: "What", show: (s) => s.says },
  { key: "takes", title: "Takes", wide: true, show: (s) => `${s.verb} on ${s.address}` },
  {
    key: "state",
    title: "State",
    sort: (s) => s.state,
    show: (s) => (
      <>
        <Mark state={marks[s.state]} word={s.decidedBy ? `${s.state}, ${s.decidedBy}` : s.state} />
        {s.outcome && <div className="text-soft">{s.outcome}</div>}
      </>
    ),
  },
  { key: "asked", title: "Asked at", figures: true, wide: true, sort: (s) => s.askedAt, show: (s) => clock(s.askedAt, false) },
  { key: "until", title: "Until", figures: true, wide: true, show: (s) => clock(s.until, false) },
  {
    key: "acts",
    title: "Actions",
    hidden: true,
    show: (s) =>
      s.state === "waiting" && act(s.mine ? "Look and decide" : "Look", `at what ${s.who} has asked for`, () => open(s)),
  },
];

/** What something that waits would do, for its second person, who confirms or declines it. */
export function SecondDialog({ second, onClose }: { second: Second; onClose: () => void }) {
  const client = useQueryClient();
  const [failed, setFailed] = useState("");
  const shown = useQuery({
    queryKey: ["second", second.id],
    queryFn: () => get<Second>(`/seconds/${second.id}`),
    retry: false,
    gcTime: 0,
  });
  const decide = async (how: "confirm" | "decline") => {
    setFailed("");
    try {
      const done = await call<Second | undefined>("POST", `/seconds/${second.id}/${how}`);
      await client.invalidateQueries();
      if (done?.outcome) setFailed(`It was confirmed, and not done: ${done.outcome}`);
      else onClose();
    } catch (error) {
      setFailed(explain(error));
    }
  };
  const { data } = shown;
  return (
    <Dialog
      open
      onClose={onClose}
      title={`${second.who} asks for a second person`}
      about={`Until ${clock(second.until, false)}.`}
    >
      <div className="space-y-3">
        <p>
          {second.says}. It takes <code>{second.verb}</code> on <span className="address">{second.address}</span>.
        </p>
        {data?.asked !== undefined && <pre className="command overflow-x-auto">{JSON.stringify(data.asked, null, 2)}</pre>}
        {data?.preview && <Effects preview={data.preview} />}
        <Failure text={failed || (shown.error ? explain(shown.error) : "")} />
        <Command text={`ferry access confirm ${second.id}`} />
        <div className="flex justify-end gap-3">
          <button className="button" onClick={() => void decide("decline")}>
            {second.mine ? "Decline" : "Take it back"}
          </button>
          {second.mine && (
            <button className="button" data-alarm disabled={!data} onClick={() => void decide("confirm")}>
              Confirm, and do it
            </button>
          )}
        </div>
      </div>
    </Dialog>
  );
}
