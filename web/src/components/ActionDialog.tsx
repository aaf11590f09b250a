import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, explain, queuePath, type NewReplay, type QueueAction, type QueueActionResult, type Replay } from "../api/client";
import { count, many, quote, span } from "../lib/format";
import { editText, parseEdits } from "../lib/edits";
import { Command } from "./Copy";
import { EditsField, Samples } from "./Edits";
import { EffectLines } from "./Effects";
import { Failure } from "./Failure";
import { Dialog, DialogFoot } from "./Panel";

export type Doing = "return" | "edit" | "discard" | "undo" | "send";

const titles: Record<Doing, string> = {
  return: "Return to the queue",
  edit: "Mend and return",
  discard: "Discard",
  undo: "Undo",
  send: "Send elsewhere",
};

type Choice = Pick<QueueAction, "cause" | "where" | "messages">;

/** Something that is done to dead letters: previewed, then done, with the way back. */
export function ActionDialog({
  address,
  doing,
  choice,
  what,
  state = "dead",
  onClose,
}: {
  address: string;
  doing: Doing;
  choice: Choice;
  what: string;
  state?: "dead" | "waiting";
  onClose: () => void;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [edits, setEdits] = useState("");
  const [why, setWhy] = useState("");
  const [rate, setRate] = useState("50");
  const [to, setTo] = useState("");
  const [busy, setBusy] = useState(false);
  const [failed, setFailed] = useState("");
  const queue = address.replace(/\/dead$/, "");
  const { list: parsed, wrong } = parseEdits(edits);
  const perSecond = Number(rate);
  // At a rate it is a replay, which can be watched, paused and stopped.
  const asReplay = doing === "send" || ((doing === "return" || doing === "edit") && perSecond > 0);
  const action: QueueAction = {
    action: doing === "send" ? "return" : doing,
    ...choice,
    ...(doing === "discard" && { why, state }),
    ...(doing === "edit" && { edits: parsed, return: true }),
  };
  const replay: NewReplay = {
    from: `${queue}/dead`,
    to: doing === "send" ? to : queue,
    ...choice,
    rate: perSecond,
    edits: parsed,
  };
  const ready = !wrong && (doing !== "edit" || parsed.length > 0);
  const preview = useQuery({
    queryKey: ["preview", address, doing, choice, edits, state],
    queryFn: () => call<QueueActionResult>("POST", `${queuePath(address)}/actions?preview=true`, action),
    enabled: ready,
    retry: false,
    placeholderData: (old) => old,
  });
  const result = ready ? preview.data : undefined;
  const command = [
    state === "waiting" ? `ferry discard ${queue}` : `ferry dead ${queue}`,
    choice.cause && `-cause ${choice.cause}`,
    choice.where && `-where ${quote(choice.where)}`,
    ...parsed.map((e) => `-edit ${quote(editText(e))}`),
    doing === "return" || doing === "edit" ? "-return" : doing === "discard" && state === "dead" ? "-discard" : "",
    doing === "undo" && "-undo",
    doing === "discard" && `-why ${quote(why || "why")}`,
    asReplay && doing !== "send" && `-rate ${rate}/s`,
    "-yes",
  ]
    .filter(Boolean)
    .join(" ");
  const undo = async () => {
    try {
      const r = await call<QueueActionResult>("POST", `${queuePath(address)}/actions`, { action: "undo", ...choice });
      toast.success(`${count(r.messages)} brought back`);
      await client.invalidateQueries();
    } catch (e) {
      toast.error(explain(e));
    }
  };
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      if (asReplay) {
        const r = await call<Replay>("POST", "/replays", replay);
        toast.success(`Replay ${r.replay} has begun: ${many(r.total, "message")}`);
        onClose();
        navigate(`/replays?open=${r.replay}`);
      } else {
        const r = await call<QueueActionResult>("POST", `${queuePath(address)}/actions`, action);
        toast.success(`${titles[doing]}: ${many(r.messages, "message")}`, {
          duration: 15_000,
          ...(doing === "discard" && { action: { label: "Undo", onClick: () => void undo() } }),
        });
        onClose();
      }
      await client.invalidateQueries();
    } catch (error) {
      setFailed(explain(error));
      setBusy(false);
    }
  };
  return (
    <Dialog open onClose={onClose} title={titles[doing]} about={what}>
      <form onSubmit={submit} className="space-y-3">
        {doing === "send" && (
          <label className="block">
            <span className="label">To: a queue, a topic, or TOPIC@GROUP for that group alone</span>
            <input className="field address" value={to} onChange={(e) => setTo(e.target.value)} required autoFocus />
          </label>
        )}
        {(doing === "edit" || doing === "send") && (
          <EditsField
            value={edits}
            onChange={setEdits}
            wrong={wrong}
            label={`Edits, one a line${doing === "send" ? " (none: as they are)" : ""}`}
            focus={doing === "edit"}
          />
        )}
        {doing === "discard" && (
          <label className="block">
            <span className="label">Why</span>
            <input className="field" value={why} onChange={(e) => setWhy(e.target.value)} required autoFocus maxLength={100} />
          </label>
        )}
        {(doing === "return" || doing === "edit" || doing === "send") && (
          <label className="block">
            <span className="label">Messages a second{doing !== "send" && "; 0 is all at once"}</span>
            <input className="field max-w-32" inputMode="decimal" value={rate} onChange={(e) => setRate(e.target.value)} />
          </label>
        )}
        {preview.error && ready && <Failure text={explain(preview.error)} />}
        {result && (
          <section aria-label="What it would do" className="space-y-2">
            {doing === "send" ? (
              <p>{many(result.messages, "message")} are sent, and count as sent on here.</p>
            ) : (
              <EffectLines texts={result.effects} />
            )}
            {asReplay && perSecond > 0 && (
              <p className="text-soft">
                At {rate} a second it takes {span(Math.ceil(result.messages / perSecond) * 1000)}; it stops by itself when more
                than 20% fail again.
              </p>
            )}
            <Samples samples={result.samples.slice(0, 3)} />
          </section>
        )}
        {doing !== "send" && <Command text={command} />}
        <DialogFoot>
          <Failure text={failed} />
          <button
            className="button"
            data-main={doing !== "discard" || undefined}
            data-alarm={doing === "discard" || undefined}
            disabled={busy || !ready || !result || result.messages === 0 || (doing === "send" && !to)}
          >
            {titles[doing]} {result ? count(result.messages) : ""}
          </button>
        </DialogFoot>
      </form>
    </Dialog>
  );
}
