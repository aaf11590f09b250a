import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Check } from "lucide-react";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { call, explain, get, type IncidentStory, type LogbookEntry } from "../api/client";
import { Absent } from "../components/Absent";
import { Command } from "../components/Copy";
import { Curve, figureText } from "../components/Curve";
import { Failure } from "../components/Failure";
import { Figures } from "../components/Figures";
import { IncidentRow, thingPage } from "../components/IncidentRow";
import { Mark } from "../components/Mark";
import { type Column, Timetable } from "../components/Timetable";
import { clock, span, words } from "../lib/format";

type Note = IncidentStory["notes"][number];

const noteColumns: Column<Note>[] = [
  { key: "time", title: "Time", className: "w-28 whitespace-nowrap tabular-nums", show: (n) => clock(n.at, false) },
  { key: "event", title: "What", className: "w-36 whitespace-nowrap", show: (n) => words(n.event) },
  { key: "who", title: "Who", wide: true, className: "w-28", show: (n) => n.who ?? "the service" },
  { key: "text", title: "", hidden: true, className: "break-words", show: (n) => n.text },
];

const entryColumns: Column<LogbookEntry>[] = [
  { key: "time", title: "Time", className: "w-28 whitespace-nowrap tabular-nums", show: (e) => clock(e.at, false) },
  { key: "who", title: "Who", wide: true, className: "w-28", show: (e) => e.who },
  { key: "what", title: "What", className: "w-36", show: (e) => e.action },
  { key: "address", title: "Address", className: "address max-md:break-all md:whitespace-nowrap", show: (e) => e.address },
  { key: "change", title: "Change", wide: true, className: "break-words", show: (e) => e.change },
];

/** What somebody says of an incident. */
function Say({ story, path }: { story: IncidentStory; path: string }) {
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [time, setTime] = useState("1h");
  const [failed, setFailed] = useState("");
  const say = async (body: { acknowledge?: boolean; silence?: string; text?: string }) => {
    setFailed("");
    try {
      client.setQueryData(["incident", path], await call<IncidentStory>("POST", `${path}/notes`, body));
      setText("");
    } catch (e) {
      setFailed(explain(e));
    }
  };
  return (
    <section className="mt-4 space-y-2">
      <label className="block max-w-2xl">
        <span className="label">A note, or why it is silenced</span>
        <input className="field" value={text} onChange={(e) => setText(e.target.value)} />
      </label>
      <div className="flex flex-wrap items-center gap-2">
        {!story.acknowledged && (
          <button className="button" data-main onClick={() => void say({ acknowledge: true, text })}>
            <Check size={16} aria-hidden /> I look at it
          </button>
        )}
        <button className="button" disabled={!text.trim()} onClick={() => void say({ text })}>
          Add the note
        </button>
        {story.silenced ? (
          <button className="button" onClick={() => void say({ silence: "0s", text })}>
            End the silence
          </button>
        ) : (
          !story.endedAt && (
            <span className="inline-flex items-center gap-2">
              <select className="field w-28" aria-label="Silence for" value={time} onChange={(e) => setTime(e.target.value)}>
                {["30m", "1h", "4h", "1d", "7d"].map((t) => (
                  <option key={t}>{t}</option>
                ))}
              </select>
              <button className="button" disabled={!text.trim()} onClick={() => void say({ silence: time, text })}>
                Silence it
              </button>
            </span>
          )
        )}
      </div>
      <Failure text={failed} />
    </section>
  );
}

/** The story of one incident. */
export function IncidentPage() {
  const { number } = useParams();
  const path = `/incidents/${number}`;
  const whole = useQuery({
    queryKey: ["incident", path],
    queryFn: () => get<IncidentStory>(path),
    refetchInterval: 3000,
  });
  if (!whole.data) return <Absent error={whole.error} what={`incident ${number}`} all="All incidents" to="/incidents" />;
  const s = whole.data;
  const end = s.endedAt ? Date.parse(s.endedAt) : Date.now();
  return (
    <>
      <p className="text-[length:var(--text-small)]">
        <Link to="/incidents">Incidents</Link>
      </p>
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4">
        <h1>{s.says}</h1>
        <Mark state={s.state} />
      </div>
      <Figures
        all={[
          ["Worst", figureText(s.peak, s.unit), `at ${clock(s.peakAt, false)}`],
          ["Began", clock(s.begunAt, false), ""],
          ["Lasted", span(end - Date.parse(s.begunAt)), ""],
          ["Seen by", s.acknowledged?.by ?? "nobody yet", ""],
        ]}
      />
      <p className="my-2 text-soft">
        Of{" "}
        <Link className="address" to={thingPage(s)}>
          {s.address}
        </Link>
        , found by{" "}
        <Link className="address" to={`/watches/${s.watch}`}>
          {s.watch}
        </Link>
        {s.endedAt && `; it ended: ${s.endedAs}`}
        {s.silenced && `; nobody is told of it until ${clock(s.silenced.until, false)}: ${s.silenced.why}`}
      </p>
      <Curve curve={s.curve} unit={s.unit} warn={s.warn} alarm={s.alarm} label={s.value} crossings={[s]} />
      {!s.endedAt && (
        <div className="mt-3 max-w-2xl">
          <span className="label">Next</span>
          <Command text={s.next} />
        </div>
      )}
      <Say story={s} path={path} />
      <h2 className="mt-5 mb-1">What happened</h2>
      <Timetable label="What happened" columns={noteColumns} rows={s.notes} rowKey={(n) => n.at + n.event + n.text} />
      <h2 className="mt-5 mb-1">Changed in the half hour before</h2>
      {s.before.length === 0 ? (
        <p className="text-soft">Nothing was changed in its space.</p>
      ) : (
        <Timetable label="Changed before" columns={entryColumns} rows={s.before} rowKey={(e) => e.id} />
      )}
      {s.during.length > 0 && (
        <>
          <h2 className="mt-5 mb-1">Done while it went on</h2>
          <Timetable label="Done meanwhile" columns={entryColumns} rows={s.during} rowKey={(e) => e.id} />
        </>
      )}
      {s.related.length > 0 && (
        <>
          <h2 className="mt-5 mb-1">Of the same source</h2>
          {s.related.map((r) => (
            <IncidentRow key={r.number} incident={r} next={false} />
          ))}
        </>
      )}
    </>
  );
}
