import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { get, type Space } from "../api/client";
import { Absent } from "../components/Absent";
import { useChanging } from "../components/Changing";
import { Command } from "../components/Copy";
import { Declared } from "../components/Declared";
import { Failure } from "../components/Failure";
import { Figures } from "../components/Figures";
import { MayAt } from "../components/Part";
import { SettingFields, useSettings } from "../components/SettingFields";
import { Uses } from "../components/Uses";
import { count, many, size } from "../lib/format";
import { changesOf, type Fields, textOf } from "../lib/settings";

/** How a space is set, with the change previewed. */
function SpaceSettings({ space }: { space: Space }) {
  const client = useQueryClient();
  const table = useSettings();
  const rows = table.data?.spaces ?? [];
  const values = space.settings as Record<string, unknown>;
  const initial = Object.fromEntries(rows.map((row) => [row.name, textOf(row, values[row.name])]));
  const [changed, setChanged] = useState<Fields>({});
  const changes = changesOf(rows, initial, { ...initial, ...changed });
  const changing = useChanging({
    address: space.space,
    path: `/spaces/${encodeURIComponent(space.space)}`,
    done: async () => {
      setChanged({});
      await client.invalidateQueries({ queryKey: ["space", space.space] });
    },
  });
  return (
    <form
      className="max-w-3xl space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        void changing.see(changes.settings);
      }}
    >
      <SettingFields made rows={rows} fields={{ ...initial, ...changed }} onChange={setChanged} />
      {changes.flags && <Command text={`ferry set ${space.space} ${changes.flags}`} />}
      <Failure text={changing.failed} />
      <button className="button" data-main disabled={!changes.flags}>
        See what changes
      </button>
      {changing.dialog}
    </form>
  );
}

/** A space: what it has and uses of what it may, and how it is set. */
export function SpacePage() {
  const { space = "" } = useParams();
  const asked = useQuery({
    queryKey: ["space", space],
    queryFn: () => get<Space>(`/spaces/${encodeURIComponent(space)}`),
    refetchInterval: 1000,
  });
  if (!asked.data) return <Absent error={asked.error} what={space} all="All channels" to="/channels" />;
  const s = asked.data;
  const in_ = encodeURIComponent(space);
  return (
    <>
      <header className="mb-3">
        <p className="text-soft">Space</p>
        <h1 className="address">{space}</h1>
        <p>{s.description}</p>
      </header>
      <nav aria-label="In the space" className="mb-4 flex flex-wrap gap-x-4 gap-y-2 leading-6">
        <Link to={`/channels?space=${in_}`}>{many(s.channels, "channel")}</Link>
        <Link to={`/chart?space=${in_}`}>How they hang together</Link>
        <MayAt verbs={["logbook"]} at={space}>
          <Link to={`/logbook?address=${in_}`}>Who did what here</Link>
        </MayAt>
      </nav>
      <Figures
        all={[
          ["Messages", count(s.messages), "kept"],
          ["On disk", size(s.bytes), "without replicas"],
        ]}
      />
      <Declared of={s.declared} />
      {s.uses && (
        <section className="mb-8">
          <h2>What it uses</h2>
          <p className="mb-2 text-soft">Of all nodes together. What is bound a second is shown where there is a bound.</p>
          <Uses all={s.uses} />
        </section>
      )}
      {s.settings && (
        <MayAt verbs={["set"]} at={space}>
          <section>
            <h2>How it is set</h2>
            <p className="mb-2 text-soft">Bounds are set by who looks after the nodes.</p>
            <SpaceSettings space={s} />
          </section>
        </MayAt>
      )}
    </>
  );
}
