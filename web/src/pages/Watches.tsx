import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { explain, get, type Watch } from "../api/client";
import { Command } from "../components/Copy";
import { figureText } from "../components/Curve";
import { ListPage } from "../components/ListPage";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import type { Column } from "../components/Timetable";
import { WatchDialog } from "../components/WatchDialog";

const order = ["alarm", "warn", "no-data", "calm", "idle", "paused"];

const columns: Column<Watch>[] = [
  {
    key: "address",
    title: "Watch",
    sort: (w) => w.address,
    show: (w) => (
      <>
        <Link className="address" to={`/watches/${w.address}`}>
          {w.address}
        </Link>
        {w.description && (
          <div className="max-w-md truncate text-[length:var(--text-small)] text-soft max-md:hidden">{w.description}</div>
        )}
      </>
    ),
  },
  { key: "state", title: "State", sort: (w) => order.indexOf(w.state), show: (w) => <Mark state={w.state} /> },
  { key: "of", title: "Of", wide: true, className: "address", sort: (w) => w.of, show: (w) => w.of },
  { key: "value", title: "Value", sort: (w) => w.value, show: (w) => w.value },
  { key: "warn", title: "Warns at", figures: true, wide: true, show: (w) => figureText(w.warn, w.unit) },
  { key: "alarm", title: "Alarms at", figures: true, wide: true, show: (w) => figureText(w.alarm, w.unit) },
  { key: "things", title: "Things", figures: true, wide: true, sort: (w) => w.things, show: (w) => w.things },
  { key: "warns", title: "Warn", figures: true, sort: (w) => -w.warns, show: (w) => w.warns || "–" },
  { key: "alarms", title: "Alarm", figures: true, sort: (w) => -w.alarms, show: (w) => w.alarms || "–" },
];

const textOf = (w: Watch) => `${w.address} ${w.of} ${w.value} ${w.state} ${w.description}`;

/** All watches, and how what they watch is. */
export function Watches() {
  const [creating, setCreating] = useState(false);
  const all = useQuery({
    queryKey: ["watches"],
    queryFn: () => get<{ items: Watch[] }>("/watches?limit=1000"),
    refetchInterval: 3000,
    placeholderData: (old) => old,
  });
  return (
    <>
      <p className="text-[length:var(--text-small)]">
        <Link to="/incidents">Incidents</Link>
      </p>
      <ListPage
        title="Watches"
        what="watch"
        rows={all.data?.items}
        failed={all.error && !all.data ? explain(all.error) : undefined}
        columns={columns}
        order="state"
        rowKey={(w) => w.address}
        text={textOf}
        placeholder="name, value or state"
        maker={{ verb: "watch", name: "New watch", open: () => setCreating(true) }}
        empty={
          <Notice title="Nothing is watched.">
            <p>Every new space comes with watches. Create one more with</p>
            <Command text="ferry new watch coldchain/dead-inspections -of coldchain/inspections -value dead -warn 5 -alarm 10" />
          </Notice>
        }
      />
      {creating && <WatchDialog onClose={() => setCreating(false)} />}
    </>
  );
}
