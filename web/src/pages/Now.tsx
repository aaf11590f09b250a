import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { explain, get, type Foreseen, type Going, type LogbookEntry, type Outlook } from "../api/client";
import { useSpaces } from "../components/AddressFields";
import { Command } from "../components/Copy";
import { IncidentRow } from "../components/IncidentRow";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { pageOf } from "../lib/address";
import { ago, clock, many } from "../lib/format";
import { useRights } from "../lib/rights";
import { useUrlState } from "../lib/url";

const shownSources = 6;
const shownChanges = 8;

const pageOfGoing = (g: Going) =>
  g.kind === "run" ? `/timetable/${g.address}?open=${g.job}` : g.kind === "replay" ? `/replays?open=${g.job}` : "/nodes";

function Section({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section className="mt-6" aria-label={title}>
      <h2 className="mb-1">{title}</h2>
      {children}
    </section>
  );
}

/** That there is nothing to tell, as far as may be seen. */
function Quiet({ verb = "see-counts", children }: { verb?: string; children: string }) {
  const all = useRights().everywhere(verb);
  return (
    <p className="text-soft">
      {children}
      {!all && " that you may see"}.
    </p>
  );
}

function Coming({ all }: { all: Foreseen[] }) {
  if (all.length === 0) return <Quiet>Nothing is foreseen</Quiet>;
  return (
    <ul>
      {all.map((f) => (
        <li key={f.kind + f.address} className="flex flex-wrap items-start gap-x-4 gap-y-1 border-b border-hair py-2">
          <div className="w-24 shrink-0">
            <Mark state={f.level} word={f.kind} />
          </div>
          <p className="min-w-0 flex-1 basis-64">
            {f.address.startsWith("nodes/") ? (
              <Link to="/nodes">{f.says}</Link>
            ) : (
              <Link to={pageOf(f.address) ?? "/channels"}>{f.says}</Link>
            )}
            {f.at && <span className="text-soft"> · {clock(f.at, false)}</span>}
          </p>
          <div className="max-md:w-full md:w-80">
            <Command text={f.next} />
          </div>
        </li>
      ))}
    </ul>
  );
}

function Doing({ all }: { all: Going[] }) {
  if (all.length === 0) return <Quiet>Nothing goes on, and nothing has failed in the last hour</Quiet>;
  return (
    <ul>
      {all.map((g) => (
        <li key={g.job} className="flex flex-wrap gap-x-3 border-b border-hair py-1.5">
          <Mark state={g.state} />
          <Link to={pageOfGoing(g)}>
            {g.kind} {g.job}
          </Link>
          <span className="address">{g.address}</span>
          <span className="text-soft">
            by {g.who}, {ago(g.since)} ago
          </span>
          <span className="min-w-0 break-words">{g.says}</span>
        </li>
      ))}
    </ul>
  );
}

function Changes({ all }: { all: LogbookEntry[] }) {
  if (all.length === 0) return <Quiet verb="logbook">Nobody changed anything</Quiet>;
  return (
    <ul>
      {all.slice(0, shownChanges).map((e) => (
        <li key={e.id} className="flex gap-x-3 border-b border-hair py-1 max-md:flex-wrap">
          <span className="text-soft tabular-nums">{clock(e.at, false)}</span>
          <span className="whitespace-nowrap">{e.who}</span>
          <span className="whitespace-nowrap">{e.action}</span>
          <span className="address whitespace-nowrap max-md:whitespace-normal max-md:break-all">{e.address}</span>
          <span className="min-w-0 flex-1 truncate text-soft max-md:hidden">{e.change}</span>
        </li>
      ))}
    </ul>
  );
}

/** What the engineer on call sees first: what is wrong, what will be, what was changed and what is being done. */
export function Now() {
  const [params, change] = useUrlState();
  const spaces = useSpaces();
  const space = params.get("space") ?? "";
  const whole = useQuery({
    queryKey: ["outlook", space],
    queryFn: () => get<Outlook>(`/outlook${space && `?space=${space}`}`),
    refetchInterval: 2000,
    placeholderData: (old) => old,
  });
  const o = whole.data;
  const open = o?.wrong.reduce((n, s) => n + s.incidents.length, 0) ?? 0;
  const reported = space || spaces[0];
  const { everywhere } = useRights();
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1>What is wrong</h1>
        {o && open > 0 && (
          <p className="text-soft">
            {many(open, "incident")} from {many(o.wrong.length, "source")}
          </p>
        )}
        <span className="ml-auto flex flex-wrap items-center gap-x-4 gap-y-1 [&_a]:inline-block [&_a]:min-h-6">
          {spaces.length > 1 && (
            <select className="field w-auto" aria-label="Space" value={space} onChange={(e) => change({ space: e.target.value })}>
              <option value="">all spaces</option>
              {spaces.map((s) => (
                <option key={s}>{s}</option>
              ))}
            </select>
          )}
          <Link to="/chart">On the chart</Link>
          <Link to="/incidents">All incidents</Link>
          <Link to="/watches">Watches</Link>
          {reported && (
            <a href={`/api/v1/reports/${reported}?format=html`} target="_blank" rel="noreferrer">
              Report of the day
            </a>
          )}
        </span>
      </div>
      {whole.error && !o && <Notice mark={<Mark state="attention" word="" />} title={explain(whole.error)} />}
      {whole.error && o && <p className="text-attention">{explain(whole.error)}</p>}
      {!o && !whole.error && <Notice title="Waiting for the first figures" />}
      {o && (
        <>
          {open === 0 && (
            <p className="flex items-center gap-2 py-3 text-[length:var(--text-large)]">
              <Mark state="calm" word="" />
              {!everywhere("see-counts")
                ? "Nothing that you may see is out of order."
                : o.wellSince
                  ? `All is well, for ${ago(o.wellSince)}, since ${clock(o.wellSince, false)}.`
                  : "All is well: nothing was out of order so far."}
            </p>
          )}
          {o.wrong.slice(0, shownSources).map((s) => (
            <div key={s.source}>
              <IncidentRow incident={s.incidents[0]!} />
              {s.incidents.length > 1 && (
                <details className="border-b border-hair py-1">
                  <summary className="text-[length:var(--text-small)] text-soft">
                    {many(s.incidents.length - 1, "more incident")} of <span className="address">{s.source}</span>
                  </summary>
                  {s.incidents.slice(1).map((i) => (
                    <IncidentRow key={i.number} incident={i} next={false} />
                  ))}
                </details>
              )}
            </div>
          ))}
          {o.wrong.length > shownSources && (
            <p className="py-2">
              <Link to="/incidents">{many(o.wrong.length - shownSources, "more source")}</Link>
            </p>
          )}
          <Section title="What will go wrong">
            <Coming all={o.foreseen} />
          </Section>
          <Section title="What is being done">
            <Doing all={o.doing} />
          </Section>
          <Section title="What changed in the last hour">
            <Changes all={o.changed} />
          </Section>
        </>
      )}
    </>
  );
}
