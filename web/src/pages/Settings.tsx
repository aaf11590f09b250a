import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { toast } from "sonner";
import { call, channelPath, explain, type Preview, type Channel } from "../api/client";
import { useChanging } from "../components/Changing";
import { Declared } from "../components/Declared";
import { Command } from "../components/Copy";
import { Effects } from "../components/Effects";
import { Dialog } from "../components/Panel";
import { MayAt } from "../components/Part";
import { SettingFields, useSettings } from "../components/SettingFields";
import { changesOf, type Fields, isOf, textOf } from "../lib/settings";
import { Failure } from "../components/Failure";

export function SettingsTab({ topic }: { topic: Channel }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const table = useSettings();
  // A pause has a button of its own.
  const rows = (table.data?.channels ?? []).filter((row) => isOf(row, topic.kind) && row.name !== "paused");
  const values = topic.settings as Record<string, unknown>;
  const initial = Object.fromEntries(rows.map((row) => [row.name, textOf(row, values[row.name])]));
  const [changed, setChanged] = useState<Fields>({});
  const [removing, setRemoving] = useState<Preview>();
  const [failed, setFailed] = useState("");
  const path = channelPath(topic.address);
  const changes = changesOf(rows, initial, { ...initial, ...changed });

  const attempt = async (f: () => Promise<void>) => {
    setFailed("");
    try {
      await f();
      await client.invalidateQueries({ queryKey: ["topic", topic.address] });
    } catch (error) {
      setFailed(explain(error));
    }
  };
  const changing = useChanging({
    address: topic.address,
    path,
    done: async () => {
      setChanged({});
      await client.invalidateQueries({ queryKey: ["topic", topic.address] });
    },
  });
  const restore = async () => {
    try {
      await call<Channel>("POST", `${path}/restore`);
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

  return (
    <div className="grid gap-8 lg:grid-cols-[minmax(0,1fr)_20rem]">
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          void changing.see(changes.settings);
        }}
      >
        <SettingFields made rows={rows} fields={{ ...initial, ...changed }} onChange={setChanged} />
        {changes.flags && <Command text={`ferry set ${topic.address} ${changes.flags}`} />}
        <Failure text={failed || changing.failed} />
        <button className="button" data-main disabled={!changes.flags}>
          See what changes
        </button>
      </form>
      <aside className="space-y-4">
        <MayAt verbs={["logbook"]} at={topic.address}>
          <Link to={`/logbook?address=${encodeURIComponent(topic.address)}`}>Who did what here</Link>
        </MayAt>
        <Declared of={topic.declared} />
        <section>
          <h2>Pause</h2>
          <p className="mb-2 text-soft">
            {topic.paused ? "Publishing is refused; reading goes on." : "Refuse publishing for a while; reading goes on."}
          </p>
          <button className="button" onClick={() => void changing.see({ paused: !topic.paused })}>
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
            Remove the {topic.kind}
          </button>
        </section>
      </aside>
      {changing.dialog}
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
