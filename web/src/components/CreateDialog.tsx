import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { call, explain, get, type Space, type Topic } from "../api/client";
import { useLive } from "../api/live";
import { parseSize, quote, size } from "../lib/format";
import { Command } from "./Copy";
import { Dialog } from "./Panel";
import { Failure } from "./Failure";

const nameForm = /^[a-z0-9][a-z0-9._-]{0,99}$/;

export function CreateDialog({ onClose, space: given }: { onClose: () => void; space?: string }) {
  const spaces = useQuery({ queryKey: ["spaces"], queryFn: () => get<{ items: Space[] }>("/spaces?limit=1000") });
  const client = useQueryClient();
  const navigate = useNavigate();
  const up = useLive().live?.cluster.nodes.filter((n) => n.state === "up").length ?? 1;
  const [form, setForm] = useState({
    kind: "topic" as "topic" | "queue",
    space: given ?? "",
    name: "",
    partitions: "",
    replicas: "",
    retain: "7d",
    retainBytes: "10GiB",
    lease: "30s",
    attempts: "5",
    order: "none",
    description: "",
  });
  const [busy, setBusy] = useState(false);
  const [failed, setFailed] = useState("");
  const set = (part: Partial<typeof form>) => setForm((f) => ({ ...f, ...part }));
  const known = spaces.data?.items.map((s) => s.space) ?? [];
  const space = form.space || known[0] || "";
  const isNew = space !== "" && !known.includes(space);
  const bytes = parseSize(form.retainBytes);
  const queue = form.kind === "queue";
  const partitions = Number(form.partitions || (queue ? 1 : 6));
  const attempts = Number(form.attempts);
  const replicas = Number(form.replicas || (up >= 3 ? 3 : 1));
  const wrong = {
    space: space !== "" && !nameForm.test(space),
    name: form.name !== "" && !nameForm.test(form.name),
    replicas: !(Number.isInteger(replicas) && replicas >= 1 && replicas <= Math.min(up, 7)),
    partitions: !(Number.isInteger(partitions) && partitions >= 1 && partitions <= 1000),
    retainBytes: !queue && (bytes === undefined || bytes < 2 ** 20),
    attempts: queue && !(Number.isInteger(attempts) && attempts >= 1 && attempts <= 1000),
  };
  const address = `${space || "SPACE"}/${form.name || "NAME"}`;
  const command = [
    isNew && `ferry new space ${space}\n`,
    `ferry new ${form.kind} ${address} -partitions ${partitions}${up > 1 ? ` -replicas ${replicas}` : ""}`,
    queue
      ? ` -lease ${form.lease} -attempts ${form.attempts}${form.order === "key" ? " -order key" : ""}`
      : ` -retain ${form.retain} -retain-bytes ${form.retainBytes}`,
    form.description && ` -description ${quote(form.description)}`,
  ]
    .filter(Boolean)
    .join("");

  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      if (isNew) await call<Space>("POST", "/spaces", { space });
      const made = await call<Topic>("POST", "/channels", {
        address,
        kind: form.kind,
        partitions,
        replicas,
        ...(queue ? { lease: form.lease, attempts, order: form.order } : { retain: form.retain, retainBytes: bytes }),
        description: form.description,
      });
      await client.invalidateQueries({ queryKey: ["spaces"] });
      onClose();
      navigate(`/channels/${made.address}`);
    } catch (error) {
      setFailed(explain(error));
      setBusy(false);
    }
  };

  return (
    <Dialog
      open
      onClose={onClose}
      title={`New ${form.kind}`}
      about={
        queue
          ? "Messages are handed out under leases until they are accepted; what keeps failing waits as a dead letter."
          : "A partitioned log that many groups read at their own pace."
      }
    >
      <form onSubmit={submit} className="space-y-3">
        <fieldset className="flex gap-5">
          <legend className="sr-only">Kind</legend>
          {(["topic", "queue"] as const).map((kind) => (
            <label key={kind} className="flex items-center gap-2">
              <input type="radio" name="kind" checked={form.kind === kind} onChange={() => set({ kind })} />
              {kind}
            </label>
          ))}
        </fieldset>
        <div className="grid gap-3 sm:grid-cols-2">
          <label className="block">
            <span className="label">Space {isNew && "(new)"}</span>
            <input
              className="field address"
              list="spaces"
              value={form.space}
              placeholder={known[0] ?? "coldchain"}
              onChange={(e) => set({ space: e.target.value })}
              aria-invalid={wrong.space}
            />
            <datalist id="spaces">
              {known.map((s) => (
                <option key={s} value={s} />
              ))}
            </datalist>
          </label>
          <label className="block">
            <span className="label">Name</span>
            <input
              className="field address"
              value={form.name}
              onChange={(e) => set({ name: e.target.value })}
              aria-invalid={wrong.name}
              required
              autoFocus
            />
          </label>
          <label className="block">
            <span className="label">Partitions, 1 to 1000</span>
            <input
              className="field"
              inputMode="numeric"
              value={form.partitions}
              placeholder={String(partitions)}
              onChange={(e) => set({ partitions: e.target.value })}
              aria-invalid={wrong.partitions}
            />
          </label>
          {up > 1 && (
            <label className="block">
              <span className="label">Replicas, 1 to {Math.min(up, 7)}, odd is best</span>
              <input
                className="field"
                inputMode="numeric"
                value={form.replicas || String(replicas)}
                onChange={(e) => set({ replicas: e.target.value })}
                aria-invalid={wrong.replicas}
              />
              <span className="text-[length:var(--text-small)] text-soft">
                {replicas === 1
                  ? `one node has it: if that is lost, so is the ${form.kind}`
                  : replicas === 2
                    ? "two copies, but both nodes are needed for writing"
                    : `${Math.floor((replicas - 1) / 2)} of the nodes may be lost without an end to writing`}
              </span>
            </label>
          )}
          {queue ? (
            <>
              <div className="grid grid-cols-2 gap-3">
                <label className="block">
                  <span className="label">A lease is for</span>
                  <input className="field" value={form.lease} onChange={(e) => set({ lease: e.target.value })} />
                </label>
                <label className="block">
                  <span className="label">Attempts</span>
                  <input
                    className="field"
                    inputMode="numeric"
                    value={form.attempts}
                    onChange={(e) => set({ attempts: e.target.value })}
                    aria-invalid={wrong.attempts}
                  />
                </label>
              </div>
              <label className="block">
                <span className="label">Order</span>
                <select className="field" value={form.order} onChange={(e) => set({ order: e.target.value })}>
                  <option value="none">none: any member gets the next message</option>
                  <option value="key">key: one at a time and in order for each key</option>
                </select>
              </label>
            </>
          ) : (
            <div className="grid grid-cols-2 gap-3">
              <label className="block">
                <span className="label">Keep for</span>
                <input className="field" value={form.retain} onChange={(e) => set({ retain: e.target.value })} />
              </label>
              <label className="block">
                <span className="label">or per partition</span>
                <input
                  className="field"
                  value={form.retainBytes}
                  onChange={(e) => set({ retainBytes: e.target.value })}
                  aria-invalid={wrong.retainBytes}
                />
              </label>
            </div>
          )}
        </div>
        <label className="block">
          <span className="label">Description</span>
          <input
            className="field"
            value={form.description}
            onChange={(e) => set({ description: e.target.value })}
            maxLength={500}
          />
        </label>
        {queue ? (
          <p className="text-soft">
            What is rejected, or not done after the last attempt, waits in <span className="address">{address}/dead</span> for 14
            days. Nobody has to set that up.
          </p>
        ) : (
          <p className="text-soft">
            It takes at most{" "}
            <strong className="text-ink">{bytes !== undefined && !wrong.partitions ? size(bytes * partitions) : "–"}</strong> of
            disk: what comes first, the age or the size, lets the oldest messages go.
          </p>
        )}
        {(wrong.space || wrong.name) && (
          <p className="text-alarm">■ Names have 1 to 100 of a-z 0-9 . _ - and start with a letter or digit.</p>
        )}
        <Command text={command} />
        <Failure text={failed} />
        <button className="button" data-main disabled={busy || !form.name || !space || Object.values(wrong).some(Boolean)}>
          Make {form.kind}
        </button>
      </form>
    </Dialog>
  );
}
