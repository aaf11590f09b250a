import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, explain, type NewReplay, type Replay } from "../api/client";
import { useLive } from "../api/live";
import { editText, parseEdits } from "../lib/edits";
import { clock, count, many, quote, span } from "../lib/format";
import { Command } from "./Copy";
import { EditsField, Samples } from "./Edits";
import { EffectLines } from "./Effects";
import { Failure } from "./Failure";
import { Dialog, DialogFoot } from "./Panel";

/** Sends a selection of a topic again: first what that would do, then as a job that can be watched. */
export function ReplayDialog({
  from,
  selection,
  onClose,
}: {
  from: string;
  selection: Pick<NewReplay, "fromPosition" | "toPosition" | "where">;
  onClose: () => void;
}) {
  const navigate = useNavigate();
  const { live } = useLive();
  const [to, setTo] = useState("");
  const [rate, setRate] = useState("50");
  const [edits, setEdits] = useState("");
  const [busy, setBusy] = useState(false);
  const [failed, setFailed] = useState("");
  const { list, wrong } = parseEdits(edits);
  const perSecond = Number(rate);
  const replay: NewReplay = { from, to: to.trim(), ...selection, rate: perSecond, edits: list };
  const ready = !wrong && perSecond > 0 && /^[^/\s]+\/[^/\s]+$/.test(to.trim());
  const preview = useQuery({
    queryKey: ["replay-plan", replay],
    queryFn: () => call<Replay>("POST", "/replays?preview=true", replay),
    enabled: ready,
    retry: false,
  });
  const plan = ready ? preview.data?.plan : undefined;
  const command = [
    `ferry replay ${from} -to ${to || "ADDRESS"}`,
    selection.fromPosition && selection.fromPosition !== "first" && `-from ${selection.fromPosition}`,
    selection.toPosition && selection.toPosition !== "end" && `-to-position ${selection.toPosition}`,
    selection.where && `-where ${quote(selection.where)}`,
    ...list.map((e) => `-edit ${quote(editText(e))}`),
    `-rate ${rate}/s`,
  ]
    .filter(Boolean)
    .join(" ");
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      const r = await call<Replay>("POST", "/replays", replay);
      toast.success(`Replay ${r.replay} has begun: ${many(r.total, "message")}`);
      navigate(`/replays?open=${r.replay}`);
    } catch (error) {
      setFailed(explain(error));
      setBusy(false);
    }
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title="Send again"
      about={`Messages of ${from} from ${selection.fromPosition || "first"} to ${selection.toPosition || "end"}${selection.where ? ` with ${selection.where}` : ""}`}
    >
      <form onSubmit={submit} className="space-y-3">
        <div className="grid grid-cols-[minmax(0,1fr)_9rem] gap-3">
          <label className="block">
            <span className="label">To: a queue, a topic, or TOPIC@GROUP for that group alone</span>
            <input
              className="field address"
              list="replay-targets"
              value={to}
              onChange={(e) => setTo(e.target.value)}
              required
              autoFocus
            />
            <datalist id="replay-targets">
              {[
                ...(live?.channels.map((t) => t.address) ?? []),
                ...(live?.groups.filter((g) => g.channel === from.replace(/#.*$/, "")).map((g) => g.address) ?? []),
              ]
                .filter((a) => a !== from)
                .map((a) => (
                  <option key={a} value={a} />
                ))}
            </datalist>
          </label>
          <label className="block">
            <span className="label">Messages a second</span>
            <input className="field" inputMode="decimal" value={rate} onChange={(e) => setRate(e.target.value)} />
          </label>
        </div>
        <EditsField value={edits} onChange={setEdits} wrong={wrong} label="Edits, one a line (none: as they are)" />
        {preview.error && ready && <Failure text={explain(preview.error)} />}
        {plan && (
          <section aria-label="What it would do" className="space-y-2">
            <p>
              <strong>{many(plan.messages, "message")}</strong>
              {plan.oldest && ` stored from ${clock(plan.oldest, false)} to ${clock(plan.newest!, false)}`}, in{" "}
              {span(Math.ceil(plan.seconds) * 1000)} at {rate} a second
            </p>
            <EffectLines texts={plan.effects} />
            <Samples samples={plan.samples.slice(0, 2)} />
          </section>
        )}
        <Command text={command} />
        <DialogFoot>
          <Failure text={failed} />
          <button className="button" data-main disabled={busy || !plan || plan.messages === 0}>
            Send {plan ? count(plan.messages) : ""} again
          </button>
        </DialogFoot>
      </form>
    </Dialog>
  );
}
