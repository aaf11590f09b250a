import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { explain, get, type Incident } from "../api/client";
import { Command } from "../components/Copy";
import { figureText } from "../components/Curve";
import { IncidentRow, thingPage } from "../components/IncidentRow";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { type Column, Timetable } from "../components/Timetable";
import { ago, clock, many, span } from "../lib/format";

const columns: Column<Incident>[] = [
  { key: "number", title: "Number", figures: true, show: (i) => <Link to={`/incidents/${i.number}`}>{i.number}</Link> },
  { key: "worst", title: "Worst", show: (i) => <Mark state={i.worst} /> },
  {
    key: "address",
    title: "Of",
    show: (i) => (
      <Link className="address break-all" to={thingPage(i)}>
        {i.address}
      </Link>
    ),
  },
  { key: "value", title: "Value", wide: true, show: (i) => i.value },
  { key: "peak", title: "Peak", figures: true, show: (i) => figureText(i.peak, i.unit) },
  { key: "began", title: "Began", wide: true, className: "whitespace-nowrap tabular-nums", show: (i) => clock(i.begunAt, false) },
  {
    key: "lasted",
    title: "Lasted",
    figures: true,
    className: "whitespace-nowrap",
    show: (i) => span(Date.parse(i.endedAt!) - Date.parse(i.begunAt)),
  },
  { key: "ended", title: "Ended", wide: true, show: (i) => i.endedAs },
];

const rank = (i: Incident) => (i.state === "alarm" ? 0 : 1);

/** Incidents that go on, those of one source together, the worst first. */
function bySource(open: Incident[]): [string, Incident[]][] {
  const groups = new Map<string, Incident[]>();
  for (const i of [...open].sort((a, b) => rank(a) - rank(b) || b.number - a.number))
    groups.set(i.source, [...(groups.get(i.source) ?? []), i]);
  return [...groups];
}

export const useOpenIncidents = () =>
  useQuery({
    queryKey: ["incidents", "open"],
    queryFn: () => get<{ items: Incident[] }>("/incidents?open=true&limit=500"),
    refetchInterval: 2000,
    placeholderData: (old) => old,
  });

/** What is wrong now, and what was. */
export function Incidents() {
  const open = useOpenIncidents();
  const past = useQuery({
    queryKey: ["incidents", "past"],
    queryFn: () => get<{ items: Incident[] }>("/incidents?span=7d&limit=200"),
    refetchInterval: 5000,
    placeholderData: (old) => old,
  });
  const ended = past.data?.items.filter((i) => i.endedAt) ?? [];
  const groups = bySource(open.data?.items ?? []);
  const failed = open.error && !open.data;
  return (
    <>
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4">
        <h1>Incidents</h1>
        {open.data && (
          <p className="mr-auto text-soft">
            {open.data.items.length === 0
              ? "nothing is out of order"
              : `${many(open.data.items.length, "incident")} from ${many(groups.length, "source")}`}
          </p>
        )}
        <Link to="/watches">All watches</Link>
      </div>
      {failed && <Notice mark={<Mark state="attention" word="" />} title={explain(open.error)} />}
      {open.data && open.data.items.length === 0 && (
        <Notice mark={<Mark state="calm" word="" />} title="All that is watched is in order.">
          <p>
            {ended[0] ? `The last incident ended ${ago(ended[0].endedAt)} ago.` : "There has been no incident in the last week."}{" "}
            A watch tells when something is not:
          </p>
          <Command text="ferry new watch coldchain/dead-inspections -of coldchain/inspections -value dead -warn 5 -alarm 10" />
        </Notice>
      )}
      {groups.map(([source, all]) => (
        <section key={source} aria-label={source}>
          {all.length > 1 && (
            <h2 className="mt-4 text-[length:var(--text-base)]">
              <span className="address">{source}</span>
              <span className="ml-2 font-normal text-soft">{many(all.length, "incident")} of one source</span>
            </h2>
          )}
          {all.map((i) => (
            <IncidentRow key={i.number} incident={i} />
          ))}
        </section>
      ))}
      {ended.length > 0 && (
        <>
          <h2 className="mt-6 mb-1">Ended in the last week</h2>
          <Timetable label="Ended" columns={columns} rows={ended} rowKey={(i) => i.number} />
        </>
      )}
    </>
  );
}
