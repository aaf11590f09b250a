import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { get, type Watch, type Watched } from "../api/client";
import { Absent } from "../components/Absent";
import { useChanging } from "../components/Changing";
import { Command, Copy } from "../components/Copy";
import { figureText } from "../components/Curve";
import { Declared } from "../components/Declared";
import { Failure } from "../components/Failure";
import { Figures } from "../components/Figures";
import { useHandling } from "../components/Handling";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { SettingFields, useSettings } from "../components/SettingFields";
import { type Column, Timetable } from "../components/Timetable";
import { WatchTrial } from "../components/WatchTrial";
import { pageOf } from "../lib/address";
import { ago } from "../lib/format";
import { changesOf, type Fields, textOf } from "../lib/settings";

const columns: Column<Watched>[] = [
  {
    key: "address",
    title: "Thing",
    show: (w) => (
      <Link className="address" to={w.address.startsWith("nodes/") ? "/nodes" : (pageOf(w.address) ?? "/channels")}>
        {w.address}
      </Link>
    ),
  },
  { key: "state", title: "State", show: (w) => <Mark state={w.state} /> },
  { key: "figure", title: "Now", figures: true, className: "whitespace-nowrap", show: (w) => w.text },
  { key: "since", title: "For", figures: true, wide: true, show: (w) => ago(w.since) },
  {
    key: "incident",
    title: "Incident",
    figures: true,
    show: (w) => (w.incident ? <Link to={`/incidents/${w.incident}`}>{w.incident}</Link> : "–"),
  },
];

/** Changes a watch: what that would have meant for the past is seen while the levels move. */
function Levels({ of }: { of: Watch }) {
  const client = useQueryClient();
  const table = useSettings();
  const rows = (table.data?.watches ?? []).filter((row) => row.name !== "paused");
  const values = of.settings as Record<string, unknown>;
  const initial = Object.fromEntries(rows.map((row) => [row.name, textOf(row, values[row.name])]));
  const [changed, setChanged] = useState<Fields>({});
  const changing = useChanging({
    address: of.address,
    path: `/watches/${of.address}`,
    done: async () => {
      setChanged({});
      await client.invalidateQueries({ queryKey: ["watch", of.address] });
    },
  });
  const fields = { ...initial, ...changed };
  const { settings, flags } = changesOf(rows, initial, fields);
  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        void changing.see(settings);
      }}
    >
      <h2>Levels</h2>
      <SettingFields rows={rows} fields={fields} onChange={setChanged} />
      <WatchTrial
        address={of.address}
        settings={changesOf(rows, {}, fields).settings}
        onLevel={(name, level) => setChanged((c) => ({ ...c, [name]: level }))}
      />
      {flags && <Command text={`ferry set ${of.address} ${flags}`} />}
      <Failure text={changing.failed} />
      <button className="button" data-main disabled={!flags}>
        See what changes
      </button>
      {changing.dialog}
    </form>
  );
}

/** One watch with what it watches. */
export function WatchPage() {
  const { space, name } = useParams();
  const address = `${space}/${name}`;
  const path = `/watches/${address}`;
  const handling = useHandling({ kind: "watch", address, path, all: "/watches" });
  const whole = useQuery({
    queryKey: ["watch", address],
    queryFn: () => get<Watch>(path),
    refetchInterval: 3000,
  });
  if (!whole.data) return <Absent error={whole.error} what={address} all="All watches" to="/watches" />;
  const w = whole.data;
  return (
    <>
      <p className="text-[length:var(--text-small)]">
        <Link to="/watches">Watches</Link>
      </p>
      <div className="mb-2 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="address">{address}</h1>
        <Copy text={address} what="address" />
        <Mark state={w.state} />
        <span className="ml-auto flex gap-2">{handling.buttons(w.paused)}</span>
      </div>
      {w.description && <p className="mb-2 max-w-3xl text-soft">{w.description}</p>}
      <Declared of={w.declared} />
      <Figures
        all={[
          ["Watches", w.value, `of ${w.of}`],
          ["Warns", w.below ? `at or below ${figureText(w.warn, w.unit)}` : figureText(w.warn, w.unit), ""],
          ["Alarms", w.below ? `at or below ${figureText(w.alarm, w.unit)}` : figureText(w.alarm, w.unit), ""],
          ["Ends at", figureText(w.calm, w.unit), ""],
          ["Things", String(w.things), `${w.alarms} alarm, ${w.warns} warn`],
        ]}
      />
      {w.watched && w.watched.length > 0 ? (
        <Timetable label="What it watches" columns={columns} rows={w.watched} rowKey={(t) => t.address} />
      ) : (
        <Notice title={`Nothing of ${w.of} has ${w.value} yet.`} />
      )}
      <div className="mt-6">
        <Levels key={w.revision} of={w} />
      </div>
      {handling.dialog}
    </>
  );
}
