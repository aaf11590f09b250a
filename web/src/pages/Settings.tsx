import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, channelPath, explain, type Preview, type Settings, type Topic } from "../api/client";
import { Command } from "../components/Copy";
import { Effects } from "../components/Effects";
import { Dialog } from "../components/Panel";
import { parseSize, quote, size } from "../lib/format";
import { Failure } from "../components/Failure";

const exactSize = (n: number) => {
  for (const [unit, factor] of [
    ["GiB", 2 ** 30],
    ["MiB", 2 ** 20],
    ["KiB", 2 ** 10],
  ] as const)
    if (n % factor === 0) return `${n / factor}${unit}`;
  return `${n}B`;
};

export function SettingsTab({ topic }: { topic: Topic }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const initial = {
    partitions: String(topic.partitionCount),
    replicas: String(topic.replicas),
    retain: topic.retain,
    retainBytes: exactSize(topic.retainBytes),
    maxBody: exactSize(topic.maxBody),
    idWindow: topic.idWindow,
    description: topic.description,
    hold: topic.hold.join(", "),
    holdBytes: topic.holdBytes ? exactSize(topic.holdBytes) : "",
  };
  const [form, setForm] = useState(initial);
  const [preview, setPreview] = useState<{ preview: Preview; settings: Settings }>();
  const [removing, setRemoving] = useState<Preview>();
  const [failed, setFailed] = useState("");
  const path = channelPath(topic.address);

  const changes: Settings = {};
  const flags: string[] = [];
  for (const name of ["partitions", "replicas"] as const) {
    if (form[name] === initial[name]) continue;
    changes[name] = Number(form[name]);
    flags.push(`-${name} ${form[name]}`);
  }
  for (const name of ["retain", "idWindow", "description"] as const) {
    if (form[name] === initial[name]) continue;
    changes[name] = form[name];
    flags.push(`-${name === "idWindow" ? "id-window" : name} ${quote(form[name])}`);
  }
  const sizes = { retainBytes: "retain-bytes", maxBody: "max-body", holdBytes: "hold-bytes" } as const;
  for (const name of ["retainBytes", "maxBody", "holdBytes"] as const) {
    if (form[name] === initial[name]) continue;
    changes[name] = parseSize(form[name]) ?? 0;
    flags.push(`-${sizes[name]} ${form[name]}`);
  }
  if (form.hold !== initial.hold) {
    changes.hold = form.hold.split(/[ ,]+/).filter(Boolean);
    flags.push(`-hold ${changes.hold.join(",") || "none"}`);
  }

  const attempt = async (f: () => Promise<void>) => {
    setFailed("");
    try {
      await f();
      await client.invalidateQueries({ queryKey: ["topic", topic.address] });
    } catch (error) {
      setFailed(explain(error));
    }
  };
  const look = (settings: Settings) =>
    attempt(async () => {
      const p = await call<Preview>("PATCH", `${path}?preview=true`, settings);
      setPreview({ preview: p, settings });
    });
  const apply = () =>
    attempt(async () => {
      await call<Preview>("PATCH", path, preview!.settings);
      setPreview(undefined);
      toast.success(`${topic.address} is changed`);
    });
  const restore = async () => {
    try {
      await call<Topic>("POST", `${path}/restore`);
      toast.success(`${topic.address} is back`);
      navigate(`/channels/${topic.address}`);
    } catch (error) {
      toast.error(explain(error));
    }
  };
  const remove = () =>
    attempt(async () => {
      const p = await call<Preview>("DELETE", path);
      navigate("/channels");
      toast(`${topic.address} is removed`, {
        description: `It can be brought back until ${new Date(p.until!).toLocaleString("en-GB")}.`,
        duration: 30_000,
        action: { label: "Bring back", onClick: () => void restore() },
      });
    });

  const fields: [keyof typeof form, string, string][] = [
    ["partitions", "Partitions", "can grow, never shrink"],
    ["replicas", "Replicas", "of each partition, 1 to 7, odd is best"],
    ["retain", "Keep for", "a duration, such as 72h or 7d"],
    ["retainBytes", "Keep per partition", `${size((parseSize(form.retainBytes) ?? 0) * Number(form.partitions || 0))} in all`],
    ["maxBody", "Largest body", "up to 64MiB"],
    ["idWindow", "Drop repeated ids within", "0s is off, up to 1h"],
    ["hold", "Retention waits for groups", "names, with commas"],
    ["holdBytes", "But keeps no more than", "of a partition; twice what is kept, unless set"],
    ["description", "Description", ""],
  ];

  return (
    <div className="grid gap-8 lg:grid-cols-[minmax(0,1fr)_20rem]">
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          void look(changes);
        }}
      >
        <div className="grid gap-3 sm:grid-cols-2">
          {fields.map(([name, label, help]) => (
            <label key={name} className="block">
              <span className="label">
                {label} {help && <span className="font-normal">({help})</span>}
              </span>
              <input className="field" value={form[name]} onChange={(e) => setForm({ ...form, [name]: e.target.value })} />
            </label>
          ))}
        </div>
        {flags.length > 0 && <Command text={`ferry set ${topic.address} ${flags.join(" ")}`} />}
        <Failure text={failed} />
        <button className="button" data-main disabled={flags.length === 0}>
          See what changes
        </button>
      </form>
      <aside className="space-y-4">
        <section>
          <h2>Pause</h2>
          <p className="mb-2 text-soft">
            {topic.paused ? "Publishing is refused; reading goes on." : "Refuse publishing for a while; reading goes on."}
          </p>
          <button className="button" onClick={() => void look({ paused: !topic.paused })}>
            {topic.paused ? "End the pause" : "Pause publishing"}
          </button>
        </section>
        <section>
          <h2>Remove</h2>
          <p className="mb-2 text-soft">It can be brought back for a day.</p>
          <button
            className="button"
            data-alarm
            onClick={() => void attempt(async () => setRemoving(await call<Preview>("DELETE", `${path}?preview=true`)))}
          >
            Remove the topic
          </button>
        </section>
      </aside>
      {preview && (
        <Dialog open onClose={() => setPreview(undefined)} title="What changes" about={topic.address}>
          <Effects preview={preview.preview} />
          <div className="mt-4 flex gap-3">
            <button className="button" data-main onClick={() => void apply()}>
              Change it
            </button>
            <button className="button" onClick={() => setPreview(undefined)}>
              Leave it
            </button>
          </div>
        </Dialog>
      )}
      {removing && (
        <Dialog open onClose={() => setRemoving(undefined)} title={`Remove ${topic.address}`} about="Nothing is deleted at once.">
          <Effects preview={removing} />
          <div className="mt-3 space-y-3">
            <Command text={`ferry remove ${topic.address} -yes`} />
            <button className="button" data-alarm onClick={() => void remove()}>
              Remove it
            </button>
          </div>
        </Dialog>
      )}
    </div>
  );
}
