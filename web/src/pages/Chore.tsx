import { useQuery, useQueryClient } from "@tanstack/react-query";
import { FastForward } from "lucide-react";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { toast } from "sonner";
import { call, get, type Chore, type Run } from "../api/client";
import { Absent } from "../components/Absent";
import { choreRows, useActs, whenOf } from "../components/ChoreDialog";
import { useChanging } from "../components/Changing";
import { Command, Copy } from "../components/Copy";
import { Declared } from "../components/Declared";
import { Failure } from "../components/Failure";
import { Figures } from "../components/Figures";
import { Foreseen } from "../components/Foreseen";
import { useHandling } from "../components/Handling";
import { Mark } from "../components/Mark";
import { Drawer, Notice } from "../components/Panel";
import { SettingFields, useSettings } from "../components/SettingFields";
import { type Column, Timetable } from "../components/Timetable";
import { clock, count, span } from "../lib/format";
import { changesOf, type Fields, textOf } from "../lib/settings";
import { useUrlState } from "../lib/url";
import { until } from "./Chores";

const took = (r: Run) => span((r.endedAt ? Date.parse(r.endedAt) : Date.now()) - Date.parse(r.createdAt));

/** The settings of a chore, and what a change of them does. */
function ChoreSettings({ of }: { of: Chore }) {
  const client = useQueryClient();
  const table = useSettings();
  const acts = useActs();
  const values = of.settings as Record<string, unknown>;
  const rows = choreRows(table.data?.chores ?? [], acts.data?.acts, of.do, whenOf(values));
  const initial = Object.fromEntries(rows.map((row) => [row.name, textOf(row, values[row.name])]));
  const [changed, setChanged] = useState<Fields>({});
  const changing = useChanging({
    address: of.address,
    path: `/chores/${of.address}`,
    done: async () => {
      setChanged({});
      await client.invalidateQueries({ queryKey: ["chore", of.address] });
    },
  });
  const { settings, flags } = changesOf(rows, initial, { ...initial, ...changed });
  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        void changing.see(settings);
      }}
    >
      <h2>Settings</h2>
      <SettingFields rows={rows} fields={{ ...initial, ...changed }} onChange={setChanged} />
      {flags && <Command text={`ferry set ${of.address} ${flags}`} />}
      <Failure text={changing.failed} />
      <button className="button" data-main disabled={!flags}>
        See what changes
      </button>
      {changing.dialog}
    </form>
  );
}

/** What one run did, line by line. */
function RunDrawer({ number, onClose }: { number: string; onClose: () => void }) {
  const client = useQueryClient();
  const run = useQuery({ queryKey: ["run", number], queryFn: () => get<Run>(`/runs/${number}`), refetchInterval: 1000 });
  const r = run.data;
  const cancel = async () => {
    await call("PATCH", `/runs/${number}`, { state: "cancelled" }).catch((e: unknown) => toast.error(String(e)));
    await client.invalidateQueries({ queryKey: ["run", number] });
  };
  return (
    <Drawer title={`Run ${number}`} onClose={onClose}>
      {r && (
        <>
          <p className="mb-2 flex flex-wrap items-center gap-x-3">
            <Mark state={r.state} />
            <span className="text-soft">
              by {r.by}, {clock(r.createdAt, false)}, {took(r)}
            </span>
            {(r.state === "running" || r.state === "paused") && (
              <button className="button ml-auto" onClick={() => void cancel()}>
                Cancel it
              </button>
            )}
          </p>
          <p className="mb-3 font-semibold break-words">{r.says}</p>
          {r.kind === "replay" && (
            <p className="mb-3">
              It is <Link to={`/replays?open=${r.job}`}>replay {r.job}</Link>.
            </p>
          )}
          <ol className="space-y-1">
            {r.log.map((line, i) => (
              <li key={i} className="flex gap-3">
                <span className="shrink-0 text-soft tabular-nums">{clock(line.at, false)}</span>
                <span className="min-w-0 break-words">{line.text}</span>
              </li>
            ))}
          </ol>
        </>
      )}
    </Drawer>
  );
}

/** One chore: what it will do, and what it did. */
export function ChorePage() {
  const { space, name } = useParams();
  const address = `${space}/${name}`;
  const [params, change] = useUrlState();
  const path = `/chores/${address}`;
  const handling = useHandling({ kind: "chore", address, path, all: "/timetable" });
  const whole = useQuery({
    queryKey: ["chore", address],
    queryFn: () => get<Chore>(path),
    refetchInterval: 3000,
  });
  const runs = useQuery({
    queryKey: ["chore", address, "runs"],
    queryFn: () => get<{ items: Run[] }>(`${path}/runs`),
    refetchInterval: 1500,
    placeholderData: (old) => old,
  });
  if (!whole.data) return <Absent error={whole.error} what={address} all="The timetable" to="/timetable" />;
  const c = whole.data;
  const columns: Column<Run>[] = [
    {
      key: "run",
      title: "Run",
      figures: true,
      show: (r) => (
        <button className="text-sea hover:underline" onClick={() => change({ open: String(r.run) })}>
          {r.run}
        </button>
      ),
    },
    { key: "state", title: "State", show: (r) => <Mark state={r.state} /> },
    { key: "began", title: "Began", figures: true, className: "whitespace-nowrap", show: (r) => clock(r.createdAt, false) },
    { key: "by", title: "By", wide: true, show: (r) => r.by },
    { key: "took", title: "Took", figures: true, wide: true, show: took },
    { key: "messages", title: "Messages", figures: true, show: (r) => count(r.messages) },
    { key: "failed", title: "Failed again", figures: true, wide: true, show: (r) => count(r.failed) },
    { key: "says", title: "Outcome", wide: true, show: (r) => <span className="break-words">{r.says}</span> },
  ];
  return (
    <>
      <p className="text-[length:var(--text-small)]">
        <Link to="/timetable">What is done when</Link>
      </p>
      <div className="mb-2 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="address">{address}</h1>
        <Copy text={address} what="address" />
        <Mark state={c.state} />
        <span className="ml-auto flex flex-wrap gap-2">
          <button
            className="button"
            data-main
            onClick={() => void handling.attempt(async () => void (await call("POST", `${path}/runs`)))}
          >
            <FastForward size={16} aria-hidden /> Run it now
          </button>
          {handling.buttons(c.paused)}
        </span>
      </div>
      {c.description && <p className="mb-2 max-w-3xl text-soft">{c.description}</p>}
      <Declared of={c.declared} />
      <Figures
        all={[
          ["Does", c.do, c.of],
          ["Runs", c.runs, ""],
          ["Next", until(c.next), ""],
        ]}
      />
      <Foreseen chore={c} />
      <h2 className="mt-6">Runs</h2>
      {runs.data && runs.data.items.length > 0 ? (
        <Timetable label="Runs" columns={columns} rows={runs.data.items} rowKey={(r) => r.run} />
      ) : (
        <Notice title="It has not run yet.">
          <Command text={`ferry timetable -start ${address}`} />
        </Notice>
      )}
      <div className="mt-6">
        <ChoreSettings key={c.revision} of={c} />
      </div>
      {handling.dialog}
      {params.get("open") && <RunDrawer number={params.get("open")!} onClose={() => change({ open: "" })} />}
    </>
  );
}
