import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import {
  call,
  explain,
  queuePath,
  type ActionSample,
  type Edit,
  type NewReplay,
  type QueueAction,
  type QueueActionResult,
  type Replay,
} from "../api/client";
import { count, quote, span } from "../lib/format";
import { editText, parseEdit } from "../lib/edits";
import { Command } from "./Copy";
import { Failure } from "./Failure";
import { Dialog } from "./Panel";

export type Doing = "return" | "edit" | "discard" | "take-back" | "send";

const titles: Record<Doing, string> = {
  return: "Return to the queue",
  edit: "Mend and return",
  discard: "Discard",
  "take-back": "Take back",
  send: "Send elsewhere",
};

type Choice = Pick<QueueAction, "cause" | "where" | "messages">;

/** What an edit makes of a message, line by line. */
function Difference({ sample }: { sample: ActionSample }) {
  const lines = (key: string, headers: Record<string, string>, body: unknown) =>
    [
      key && `key: ${key}`,
      ...Object.entries(headers).map(([n, v]) => `header ${n}: ${v}`),
      ...JSON.stringify(body, null, 2).split("\n"),
    ].filter(Boolean) as string[];
  const before = lines(sample.key, sample.headers, sample.body);
  if (!sample.after) return <pre className="address overflow-x-auto">{JSON.stringify(sample.body)}</pre>;
  const after = lines(sample.after.key, sample.after.headers, sample.after.body);
  const gone = before.filter((l) => !after.includes(l));
  const come = after.filter((l) => !before.includes(l));
  return (
    <pre className="address overflow-x-auto">
      {gone.map((l) => (
        <div key={`-${l}`} className="text-alarm">
          − {l}
        </div>
      ))}
      {come.map((l) => (
        <div key={`+${l}`} className="text-order">
          + {l}
        </div>
      ))}
      {gone.length + come.length === 0 && <div className="text-soft">no difference</div>}
    </pre>
  );
}

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
  const [reason, setReason] = useState("");
  const [rate, setRate] = useState("50");
  const [to, setTo] = useState("");
  const [busy, setBusy] = useState(false);
  const [failed, setFailed] = useState("");
  const queue = address.replace(/\/dead$/, "");
  let parsed: Edit[] = [];
  let wrong = "";
  try {
    parsed = edits
      .split("\n")
      .filter((l) => l.trim())
      .map(parseEdit);
  } catch (e) {
    wrong = (e as Error).message;
  }
  const perSecond = Number(rate);
  // At a rate it is a replay, which can be watched, paused and stopped.
  const asReplay = doing === "send" || ((doing === "return" || doing === "edit") && perSecond > 0);
  const action: QueueAction = {
    action: doing === "send" ? "return" : doing,
    ...choice,
    ...(doing === "discard" && { reason, state }),
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
    queryFn: () => call<QueueActionResult>("POST", `${queuePath(address)}/actions`, { ...action, preview: true }),
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
    doing === "take-back" && "-take-back",
    doing === "discard" && `-reason ${quote(reason || "why")}`,
    asReplay && doing !== "send" && `-rate ${rate}/s`,
    "-yes",
  ]
    .filter(Boolean)
    .join(" ");
  const undo = async () => {
    try {
      const r = await call<QueueActionResult>("POST", `${queuePath(address)}/actions`, { action: "take-back", ...choice });
      toast.success(`${count(r.messages)} taken back`);
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
        toast.success(`Replay ${r.replay} has begun: ${count(r.total)} messages`);
        onClose();
        navigate(`/replays?open=${r.replay}`);
      } else {
        const r = await call<QueueActionResult>("POST", `${queuePath(address)}/actions`, action);
        toast.success(`${titles[doing]}: ${count(r.messages)} messages`, {
          duration: 15_000,
          ...(doing === "discard" && { action: { label: "Take back", onClick: () => void undo() } }),
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
          <label className="block">
            <span className="label">Edits, one a line{doing === "send" && " (none: as they are)"}</span>
            <textarea
              className="field address min-h-20"
              value={edits}
              onChange={(e) => setEdits(e.target.value)}
              placeholder={'set /celsius:=(double(body.celsius.replace(" F", "")) - 32.0) / 1.8'}
              aria-invalid={wrong !== ""}
              autoFocus={doing === "edit"}
            />
            <span className="text-[length:var(--text-small)] text-soft">
              <code>set /field=value</code>, <code>set /field:=expression</code>, <code>remove /field</code>,{" "}
              <code>rename /old=/new</code>; <code>header.NAME</code> and <code>key</code> too
            </span>
          </label>
        )}
        {wrong && <p className="text-alarm">■ {wrong}</p>}
        {doing === "discard" && (
          <label className="block">
            <span className="label">Why</span>
            <input
              className="field"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
              required
              autoFocus
              maxLength={100}
            />
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
              <p>{count(result.messages)} messages are sent, and count as sent on here.</p>
            ) : (
              result.effects.map((text) => (
                <p key={text}>
                  <span className="text-attention" aria-hidden="true">
                    ▲{" "}
                  </span>
                  {text}
                </p>
              ))
            )}
            {asReplay && perSecond > 0 && (
              <p className="text-soft">
                At {rate} a second it takes {span((result.messages / perSecond) * 1000)}; it stops by itself when more than 20%
                fail again.
              </p>
            )}
            {result.samples.slice(0, 3).map((s) => (
              <div key={s.address} className="border-l-2 border-hair pl-3 text-[length:var(--text-small)]">
                <p className="address text-soft">{s.address}</p>
                <Difference sample={s} />
              </div>
            ))}
          </section>
        )}
        {doing !== "send" && <Command text={command} />}
        <div className="sticky -bottom-5 -mx-5 -mb-5 border-t border-hair bg-sheet px-5 py-3">
          <Failure text={failed} />
          <button
            className="button"
            data-main={doing !== "discard" || undefined}
            data-alarm={doing === "discard" || undefined}
            disabled={busy || !ready || !result || result.messages === 0 || (doing === "send" && !to)}
          >
            {titles[doing]} {result ? count(result.messages) : ""}
          </button>
        </div>
      </form>
    </Dialog>
  );
}
