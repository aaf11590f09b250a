import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { explain, get, type Chore } from "../api/client";
import { ChoreDialog } from "../components/ChoreDialog";
import { Command } from "../components/Copy";
import { zoned } from "../components/Foreseen";
import { ListPage } from "../components/ListPage";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import type { Column } from "../components/Timetable";
import { ago, span } from "../lib/format";

/** How long it is until a time. */
export const until = (time: string | null | undefined) => {
  if (!time) return "–";
  const left = Date.parse(time) - Date.now();
  return left < 1000 ? "now" : `in ${span(left)}`;
};

const columns: Column<Chore>[] = [
  {
    key: "address",
    title: "Chore",
    sort: (c) => c.address,
    show: (c) => (
      <>
        <Link className="address" to={`/timetable/${c.address}`}>
          {c.address}
        </Link>
        {c.description && (
          <div className="max-w-md truncate text-[length:var(--text-small)] text-soft max-md:hidden">{c.description}</div>
        )}
      </>
    ),
  },
  { key: "state", title: "State", sort: (c) => c.state, show: (c) => <Mark state={c.state} /> },
  {
    key: "does",
    title: "Does",
    wide: true,
    sort: (c) => c.do,
    show: (c) => (
      <>
        {c.do} <span className="address">{c.of}</span>
      </>
    ),
  },
  { key: "runs", title: "When", wide: true, className: "whitespace-nowrap", show: (c) => c.runs },
  {
    key: "next",
    title: "Next",
    figures: true,
    className: "whitespace-nowrap",
    sort: (c) => c.next ?? "~",
    show: (c) => <span title={c.next ? zoned(c.next, c.zone) : undefined}>{until(c.next)}</span>,
  },
  {
    key: "last",
    title: "Last run",
    wide: true,
    sort: (c) => c.last?.createdAt ?? "",
    show: (c) =>
      c.last ? (
        <span className="flex flex-wrap gap-x-2">
          <Mark state={c.last.state} />
          <span className="text-soft">{ago(c.last.createdAt)} ago</span>
          <span className="max-w-sm truncate">{c.last.says}</span>
        </span>
      ) : (
        <span className="text-soft">it has not run yet</span>
      ),
  },
];

const textOf = (c: Chore) => `${c.address} ${c.do} ${c.of} ${c.state} ${c.runs} ${c.description}`;

/** The timetable: what is done by itself, when next, and what came of it. */
export function Chores() {
  const [creating, setCreating] = useState(false);
  const all = useQuery({
    queryKey: ["chores"],
    queryFn: () => get<{ items: Chore[] }>("/chores?limit=1000"),
    refetchInterval: 2000,
    placeholderData: (old) => old,
  });
  return (
    <>
      <ListPage
        title="What is done when"
        what="chore"
        rows={all.data?.items}
        failed={all.error && !all.data ? explain(all.error) : undefined}
        columns={columns}
        order="next"
        rowKey={(c) => c.address}
        text={textOf}
        placeholder="name, act or state"
        maker={{ verb: "chore", name: "New chore", open: () => setCreating(true) }}
        empty={
          <Notice title="Nothing is done by itself.">
            <p>A chore does what you would do by hand, at its time: return, discard, replay, verify, export. Create one with</p>
            <Command text="ferry new chore coldchain/nightly-return -at '0 3 * * *' -zone Europe/Lisbon -do return -of coldchain/inspections -rate 50/s" />
          </Notice>
        }
      />
      {creating && <ChoreDialog onClose={() => setCreating(false)} />}
    </>
  );
}
