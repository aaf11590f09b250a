import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { call, explain, groupPath, type Group, type SeekResult } from "../api/client";
import { count, many } from "../lib/format";
import { typed } from "../lib/position";
import { Failure } from "./Failure";
import { Dialog } from "./Panel";
import { Pennants } from "./Pennants";

const kinds = [
  { key: "ago", name: "a while ago", example: "2h" },
  { key: "time", name: "a time", example: "2026-11-23 08:00" },
  { key: "today", name: "the beginning of today", example: "" },
  { key: "yesterday", name: "the beginning of yesterday", example: "" },
  { key: "first", name: "the oldest kept message", example: "" },
  { key: "end", name: "the end", example: "" },
  { key: "offset", name: "an offset", example: "1200" },
  { key: "group", name: "where another group is", example: "dashboards" },
] as const;

/** The position that is meant. */
function place(kind: string, value: string): string {
  if (kind === "time") return typed(value);
  return value ? `${kind}:${value}` : typed(kind);
}

/** Sets a group's offsets to another position: what it would do is drawn first, as a line from
 *  the old to the new place of each partition. */
export function SeekDialog({ group, undo, onClose }: { group: Group; undo: boolean; onClose: () => void }) {
  const client = useQueryClient();
  const [kind, setKind] = useState<string>("ago");
  const [value, setValue] = useState("2h");
  const [partition, setPartition] = useState("");
  const [why, setWhy] = useState("");
  const [running, setRunning] = useState(false);
  const [preview, setPreview] = useState<SeekResult>();
  const [failure, setFailure] = useState<string>();
  const chosen = kinds.find((k) => k.key === kind)!;
  const ask = {
    ...(undo
      ? { undo: true }
      : { to: place(kind, chosen.example ? value.trim() : ""), ...(partition && { partition: Number(partition) }) }),
    whileRunning: running,
    why,
  };
  const change = (f: () => void) => {
    f();
    setPreview(undefined);
    setFailure(undefined);
  };
  const run = async (apply: boolean) => {
    setFailure(undefined);
    try {
      const path = `${groupPath(group.address)}/seeks`;
      if (!apply) return setPreview(await call<SeekResult>("POST", `${path}?preview=true`, ask));
      const done = await call<SeekResult>("POST", path, { ...ask, last: preview!.last });
      toast.success(
        `${group.address} is there now; ${many(done.again, "message")} are read again, ${count(done.skipped)} skipped`,
      );
      await client.invalidateQueries({ queryKey: ["group", group.address] });
      await client.invalidateQueries({ queryKey: ["seeks", group.address] });
      onClose();
    } catch (e) {
      setFailure(explain(e));
    }
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title={undo ? "Undo the last seek" : "Seek"}
      about={`${group.address}; all partitions go there, or none. A seek can be undone.`}
    >
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          void run(preview !== undefined);
        }}
      >
        {!undo && (
          <div className="flex flex-wrap gap-3">
            <label className="flex-1">
              To
              <select className="field" value={kind} onChange={(e) => change(() => setKind(e.target.value))}>
                {kinds.map((k) => (
                  <option key={k.key} value={k.key}>
                    {k.name}
                  </option>
                ))}
              </select>
            </label>
            {chosen.example && (
              <label className="flex-1">
                {kind === "ago" ? "How long" : kind === "group" ? "Group" : kind === "time" ? "Time" : "Offset"}
                <input
                  className="field"
                  value={value}
                  placeholder={chosen.example}
                  onChange={(e) => change(() => setValue(e.target.value))}
                />
              </label>
            )}
            <label>
              Partition
              <select className="field" value={partition} onChange={(e) => change(() => setPartition(e.target.value))}>
                <option value="">all</option>
                {group.partitions?.map((p) => (
                  <option key={p.partition}>{p.partition}</option>
                ))}
              </select>
            </label>
          </div>
        )}
        {preview && (
          <div className="space-y-2" aria-label="What it does" role="region">
            {preview.steps.map((s) => (
              <div key={s.partition} className="grid grid-cols-[2.5rem_1fr_9rem] items-end gap-3">
                <span className="address">#{s.partition}</span>
                <Pennants
                  ground="bg-sheet px-1"
                  first={s.first}
                  end={s.end}
                  pennants={[
                    {
                      name: count(s.to),
                      at: s.to,
                      from: s.from,
                      state: "catching-up",
                      title: `from ${count(s.from)} to ${count(s.to)}`,
                    },
                  ]}
                />
                <span className="figures text-[length:var(--text-small)]">
                  {s.again > 0 ? `${count(s.again)} again` : s.skipped > 0 ? `${count(s.skipped)} skipped` : "stays"}
                </span>
              </div>
            ))}
            {[...new Set(preview.steps.map((s) => s.note).filter(Boolean))].map((note) => (
              <p key={note} className="text-soft">
                {preview.steps
                  .filter((s) => s.note === note)
                  .map((s) => `#${s.partition}`)
                  .join(" ")}
                : {note}
              </p>
            ))}
            <p className="font-semibold">
              {many(preview.again, "message")} are read again, {count(preview.skipped)} are skipped
              {undo && `; it goes back to ${preview.target}`}
            </p>
            <label className="block">
              Why
              <input
                className="field"
                value={why}
                maxLength={500}
                placeholder="for the history"
                onChange={(e) => setWhy(e.target.value)}
              />
            </label>
            {preview.members > 0 && (
              <label className="flex items-center gap-2">
                <input type="checkbox" checked={running} onChange={(e) => setRunning(e.target.checked)} />
                while its {preview.members} live{" "}
                {preview.members === 1 ? "member reads: it is told and goes on" : "members read: they are told and go on"} from
                there
              </label>
            )}
          </div>
        )}
        <Failure text={failure} />
        <div className="flex justify-end gap-3">
          <button type="button" className="button" onClick={onClose}>
            Cancel
          </button>
          {!preview ? (
            <button className="button" data-main>
              Show what it does
            </button>
          ) : (
            <button className="button" data-main disabled={preview.members > 0 && !running}>
              {undo ? "Undo it" : "Set the offsets"}
            </button>
          )}
        </div>
      </form>
    </Dialog>
  );
}
