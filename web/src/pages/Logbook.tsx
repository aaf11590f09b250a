import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useMemo, useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import { call, explain, get, type Cluster, type LogbookEntry, type Preview } from "../api/client";
import { Command } from "../components/Copy";
import { Effects } from "../components/Effects";
import { ListPage } from "../components/ListPage";
import { Mark } from "../components/Mark";
import { Dialog, Notice } from "../components/Panel";
import type { Column } from "../components/Timetable";
import { pageOf } from "../lib/address";
import { clock } from "../lib/format";
import { useUrlState } from "../lib/url";

type Page = { items: LogbookEntry[]; next: string };

/** Where what an entry is about is shown, by what was done to it. */
function pageOfEntry(e: LogbookEntry): string | undefined {
  const [place] = e.address.split("/", 1);
  if (["principals", "grants", "roles", "masks"].includes(place!)) return `/access?show=${place}`;
  if (place === "nodes") return e.address === "nodes" ? "/nodes" : undefined;
  const kind = /endpoint|watch|chore/.exec(e.action)?.[0];
  if (!kind && !/topic|queue|space|group|route|dead|messages|contents|offsets|glass|replay/.test(e.action)) return undefined;
  return pageOf(e.address, kind);
}

const columns: Column<LogbookEntry>[] = [
  { key: "time", title: "Time", className: "whitespace-nowrap tabular-nums", show: (e) => clock(e.at, false) },
  {
    key: "who",
    title: "Who",
    className: "whitespace-nowrap",
    show: (e) => (
      <span title={[e.credential, e.from && `from ${e.from}`].filter(Boolean).join(", ")}>
        {e.who}
        {e.from && <span className="block text-[length:var(--text-small)] text-soft max-md:hidden">from {e.from}</span>}
      </span>
    ),
  },
  {
    key: "what",
    title: "Action",
    className: "whitespace-nowrap",
    show: (e) => (
      <>
        {e.outcome === "refused" && <Mark state="attention" word="refused" />}
        {e.outcome === "failed" && <Mark state="alarm" word="failed" />}
        {e.outcome === "unknown" && <Mark state="unknown" word="not known whether done" />} {e.action}
        {e.times > 1 ? `, ${e.times} times` : ""}
      </>
    ),
  },
  {
    key: "address",
    title: "Address",
    className: "address whitespace-nowrap",
    show: (e) => {
      const page = pageOfEntry(e);
      return page ? <Link to={page}>{e.address}</Link> : e.address;
    },
  },
  { key: "change", title: "What changed", className: "text-soft", show: (e) => e.change },
  { key: "undo", title: "Way back", show: (e) => e.undo && <Undo entry={e} /> },
];

/** Takes back what an entry tells, when it was seen what that does. */
function Undo({ entry }: { entry: LogbookEntry }) {
  const client = useQueryClient();
  const [preview, setPreview] = useState<Preview>();
  const path = `/logbook/entries/${entry.id}/undo`;
  const attempt = async (f: () => Promise<void>) => {
    try {
      await f();
    } catch (error) {
      setPreview(undefined);
      toast.error(explain(error));
    }
  };
  const undo = () =>
    attempt(async () => {
      await call<Preview>("POST", path);
      setPreview(undefined);
      toast.success(`${entry.action} of ${entry.address} is taken back`);
      await client.invalidateQueries({ queryKey: ["logbook"] });
    });
  return (
    <>
      <button
        className="button"
        aria-label={`Take back ${entry.action} of ${entry.address}, entry ${entry.id}`}
        onClick={() => void attempt(async () => setPreview(await call<Preview>("POST", `${path}?preview=true`)))}
      >
        Take back
      </button>
      {preview && (
        <Dialog open onClose={() => setPreview(undefined)} title={`Take back ${entry.action}`} about={entry.address}>
          <Effects preview={preview} />
          <div className="mt-4 space-y-3">
            <Command text={`ferry logbook -undo ${entry.id} -yes`} />
            <button className="button" data-main onClick={() => void undo()}>
              Take it back
            </button>
          </div>
        </Dialog>
      )}
    </>
  );
}

const asked = ["who", "address", "action", "outcome"] as const;

const textOf = (e: LogbookEntry) => `${e.who} ${e.action} ${e.address} ${e.change}`;

export function LogbookPage() {
  const [params, change] = useUrlState();
  const query = useDeferredValue(
    new URLSearchParams(asked.flatMap((name) => (params.get(name) ? [[name, params.get(name)!]] : []))).toString(),
  );
  const log = useInfiniteQuery({
    queryKey: ["logbook", query],
    queryFn: ({ pageParam }) => get<Page>(`/logbook?limit=200&${query}${pageParam && `&cursor=${pageParam}`}`),
    placeholderData: (old) => old,
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 10_000,
  });
  const cluster = useQuery({ queryKey: ["nodes"], queryFn: () => get<Cluster>("/nodes"), retry: false });
  const to = cluster.data?.logbookTo;
  const entries = useMemo(() => log.data?.pages.flatMap((p) => p.items), [log.data]);
  return (
    <ListPage
      title="Logbook"
      what="entry"
      verb="logbook"
      rows={entries}
      failed={log.error && !log.data ? explain(log.error) : undefined}
      columns={columns}
      rowKey={(e) => e.id}
      text={textOf}
      placeholder="who, action, address or change"
      above={
        <div className="mb-4 flex flex-wrap items-end gap-3">
          {(
            [
              ["who", "Who", "owner"],
              ["address", "Address, and what belongs to it", "coldchain/inspections"],
              ["action", "Action", "discard"],
            ] as const
          ).map(([name, label, hint]) => (
            <label key={name} className="block">
              <span className="label">{label}</span>
              <input
                className="field address"
                placeholder={hint}
                value={params.get(name) ?? ""}
                onChange={(e) => change({ [name]: e.target.value })}
              />
            </label>
          ))}
          <label className="block">
            <span className="label">Outcome</span>
            <select className="field" value={params.get("outcome") ?? ""} onChange={(e) => change({ outcome: e.target.value })}>
              <option value="">any</option>
              <option>done</option>
              <option>refused</option>
              <option>failed</option>
              <option value="unknown">not known</option>
            </select>
          </label>
          {to && (
            <p className="ml-auto text-soft">
              Each entry goes to{" "}
              <Link to={`/channels/${to}`} className="address">
                {to}
              </Link>{" "}
              too
            </p>
          )}
        </div>
      }
      empty={<Notice title={query ? "There is no such entry." : "Nothing was done yet."} />}
      below={
        log.hasNextPage && (
          <button className="button mt-3" onClick={() => void log.fetchNextPage()}>
            Older entries
          </button>
        )
      }
    />
  );
}
