import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { call, explain, get, type Space, type Channel } from "../api/client";
import { useLive } from "../api/live";
import { parseSize, size } from "../lib/format";
import { changesOf, type Fields, isOf } from "../lib/settings";
import { Command } from "./Copy";
import { Dialog } from "./Panel";
import { Failure } from "./Failure";
import { SettingFields, useSettings } from "./SettingFields";

// What is asked for when something is made; the rest can be set later.
const asked = ["partitionCount", "replicas", "retain", "retainBytes", "lease", "attemptLimit", "order", "description"];

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
    fields: {} as Fields,
  });
  const [busy, setBusy] = useState(false);
  const [failed, setFailed] = useState("");
  const set = (part: Partial<typeof form>) => setForm((f) => ({ ...f, ...part }));
  const known = spaces.data?.items.map((s) => s.space) ?? [];
  const space = form.space || known[0] || "";
  const isNew = space !== "" && !known.includes(space);
  const queue = form.kind === "queue";
  const table = useSettings();
  const rows = (table.data?.channels ?? []).filter(
    (row) => isOf(row, form.kind) && asked.includes(row.name) && (up > 1 || row.name !== "replicas"),
  );
  const defaults = Object.fromEntries(rows.map((row) => [row.name, row.default]));
  const proposed = { ...defaults, partitions: queue ? "1" : "6", ...(up > 1 && { replicas: up >= 3 ? "3" : "1" }) };
  const fields: Fields = { ...proposed, ...form.fields };
  const replicas = Number(fields.replicas ?? 1);
  const wrong = {
    space: space !== "" && !nameForm.test(space),
    name: form.name !== "" && !nameForm.test(form.name),
  };
  const address = `${space || "SPACE"}/${form.name || "NAME"}`;
  const { settings, flags } = changesOf(rows, {}, fields);
  const command = [isNew && `ferry new space ${space}\n`, `ferry new ${form.kind} ${address} ${flags}`].filter(Boolean).join("");

  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      if (isNew) await call<Space>("POST", "/spaces", { space });
      const made = await call<Channel>("POST", "/channels", { address, kind: form.kind, ...settings });
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
              <input type="radio" name="kind" checked={form.kind === kind} onChange={() => set({ kind, fields: {} })} />
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
        </div>
        <SettingFields rows={rows} fields={fields} onChange={(fields) => set({ fields })} />
        {up > 1 && (
          <p className="text-[length:var(--text-small)] text-soft">
            {replicas === 1
              ? `one node has it: if that is lost, so is the ${form.kind}`
              : replicas === 2
                ? "two copies, but both nodes are needed for writing"
                : `${Math.floor((replicas - 1) / 2)} of the nodes may be lost without an end to writing`}
          </p>
        )}
        {queue ? (
          <p className="text-soft">
            What is rejected, or not done after the last attempt, waits in <span className="address">{address}/dead</span> for two
            weeks. Nobody has to set that up.
          </p>
        ) : (
          <p className="text-soft">
            It takes at most{" "}
            <strong className="text-ink">{size((parseSize(fields.retainBytes ?? "") ?? 0) * Number(fields.partitions))}</strong>{" "}
            of disk: what comes first, the age or the size, lets the oldest messages go.
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
