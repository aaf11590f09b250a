import { useQuery, useQueryClient } from "@tanstack/react-query";
import { MoveHorizontal, Pause, Pencil, Play, Undo2 } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { toast } from "sonner";
import { useLive } from "../api/live";
import { call, explain, get, groupPath, type Group, type PastSeek, type Preview } from "../api/client";
import { Copy } from "../components/Copy";
import { LagCharts } from "../components/LagCharts";
import { Figures } from "../components/Figures";
import { Absent } from "../components/Absent";
import { Mark } from "../components/Mark";
import { RouteDialog } from "../components/RouteDialog";
import { Leads, Outage, RouteWork } from "../components/RouteWork";
import { SeekDialog } from "../components/SeekDialog";
import { Declared } from "../components/Declared";
import { Events } from "../components/Events";
import { Effects } from "../components/Effects";
import { Dialog } from "../components/Panel";
import { Pennants } from "../components/Pennants";
import { type Column, Timetable } from "../components/Timetable";
import { ago, clock, count, many, rate } from "../lib/format";
import { forecast, unread } from "./Groups";
import { pageOf, readerAddress } from "../lib/address";

type Place = NonNullable<Group["partitions"]>[number];

const placeColumns = (channel: string): Column<Place>[] => [
  {
    key: "partition",
    title: "Partition",
    show: (p) => (
      <Link className="address" to={`/channels/${channel}?partition=${p.partition}&from=offset:${p.committed}`}>
        #{p.partition}
      </Link>
    ),
  },
  { key: "lag", title: "Lag", figures: true, show: (p) => count(p.lag) },
  { key: "unread", title: "Oldest unread", figures: true, className: "whitespace-nowrap", show: (p) => unread(p.lagSeconds) },
  {
    key: "state",
    title: "Verdict",
    className: "whitespace-nowrap",
    show: (p) => <Mark state={p.state} word={p.verdict} />,
  },
  {
    key: "by",
    title: "Read by",
    className: "whitespace-nowrap",
    show: (p) =>
      p.memberId ? (
        <span title={p.memberId}>{p.member || p.memberId.slice(0, 8)}</span>
      ) : (
        <span className="text-soft">nobody</span>
      ),
  },
  { key: "committed", title: "Committed", figures: true, show: (p) => count(p.committed) },
  { key: "end", title: "End", figures: true, show: (p) => count(p.end) },
  {
    key: "last",
    title: "Last commit",
    figures: true,
    className: "whitespace-nowrap",
    show: (p) => (p.committedAt ? `${ago(p.committedAt)} ago` : "–"),
  },
  {
    key: "where",
    title: "From the oldest kept to the end",
    className: "min-w-56",
    show: (p) => (
      <Pennants
        first={p.first}
        end={p.end}
        pennants={[{ name: "", at: p.committed, state: p.state, title: `${many(p.lag, "message")} behind` }]}
      />
    ),
  },
];

const memberColumns: Column<NonNullable<Group["members"]>[number]>[] = [
  {
    key: "member",
    title: "Member",
    show: (m) => (
      <span title={m.memberId}>
        {m.member || m.memberId.slice(0, 8)} <Copy text={m.memberId} what="member id" />
      </span>
    ),
  },
  {
    key: "partitions",
    title: "Partitions",
    show: (m) => m.partitions.map((p) => `#${p}`).join(" ") || <span className="text-soft">none: others read them all</span>,
  },
  { key: "leaving", title: "Giving up", show: (m) => m.leaving.map((p) => `#${p}`).join(" ") },
  { key: "since", title: "Since", figures: true, show: (m) => ago(m.joined) },
  { key: "timeout", title: "Timeout", figures: true, wide: true, show: (m) => m.timeout },
];

const seekColumns: Column<PastSeek>[] = [
  { key: "when", title: "Time", className: "whitespace-nowrap", show: (m) => clock(m.at, false) },
  { key: "who", title: "Who", show: (m) => m.who },
  {
    key: "to",
    title: "To",
    show: (m) => (
      <>
        {m.target} {m.undone && <span className="text-soft">(undone)</span>}
      </>
    ),
  },
  { key: "again", title: "Read again", figures: true, show: (m) => count(m.steps.reduce((n, s) => n + s.again, 0)) },
  { key: "skipped", title: "Skipped", figures: true, show: (m) => count(m.steps.reduce((n, s) => n + s.skipped, 0)) },
  { key: "why", title: "Why", show: (m) => m.why },
];

function Where({ group }: { group: Group }) {
  return (
    <Timetable
      label="Partitions"
      columns={placeColumns(group.channel)}
      rows={group.partitions ?? []}
      rowKey={(p) => p.partition}
    />
  );
}

function Members({ group }: { group: Group }) {
  if (!group.members?.length) {
    return (
      <p className="text-soft">
        Nobody reads as this group now. <code>ferry read {group.address}</code> goes on where it is.
      </p>
    );
  }
  return <Timetable label="Members" columns={memberColumns} rows={group.members} rowKey={(m) => m.memberId} />;
}

function History({ seeks }: { seeks: PastSeek[] }) {
  if (seeks.length === 0) return <p className="text-soft">Its offsets were never set by hand.</p>;
  return <Timetable label="Seeks" columns={seekColumns} rows={seeks} rowKey={(m) => m.seek} />;
}

export function GroupPage() {
  const { space, channel, group: name } = useParams();
  const address = readerAddress(`${space}/${channel}`, name!);
  const client = useQueryClient();
  const navigate = useNavigate();
  const { live } = useLive();
  const [moving, setMoving] = useState<"seek" | "undo">();
  const [removing, setRemoving] = useState<Preview>();
  const [setting, setSetting] = useState(false);
  const whole = useQuery({
    queryKey: ["group", address],
    queryFn: () => get<Group>(groupPath(address)),
    refetchInterval: 1000,
  });
  const past = useQuery({
    queryKey: ["seeks", address],
    queryFn: () => get<{ items: PastSeek[] }>(`${groupPath(address)}/seeks`),
    refetchInterval: 5000,
    placeholderData: (old) => old,
  });
  if (!whole.data) return <Absent error={whole.error} what={address} all="All groups" to="/groups" />;
  const group = whole.data;
  const list = past.data?.items ?? [];
  const seeks = live?.channels.find((c) => c.address === group.channel)?.kind === "topic"; // of a queue there are no places
  const attempt = async (f: () => Promise<void>) => {
    try {
      await f();
    } catch (e) {
      toast.error(explain(e));
    }
  };
  const pause = () =>
    attempt(async () => {
      await call("PATCH", groupPath(address), { paused: !group.paused });
      await client.invalidateQueries({ queryKey: ["group", address] });
    });
  const remove = (preview: boolean) =>
    attempt(async () => {
      const p = await call<Preview>("DELETE", `${groupPath(address)}?preview=${preview}`);
      if (preview) return setRemoving(p);
      toast.success(`${address} is removed`);
      navigate("/groups");
    });
  const source = address.slice(0, address.lastIndexOf("@"));
  const isRoute = group.kind === "route";
  const sent = group.work?.reduce((n, w) => n + w.sent, 0) ?? 0;
  const figures: [string, string, string][] = [
    ["Lag", count(group.lag), "messages"],
    ["Oldest unread", unread(group.lagSeconds), ""],
    ["Arrivals", rate(group.arrivalRate), "/s"],
    ["Commits", rate(group.commitRate), "/s"],
    isRoute ? ["Sent", count(sent), "since it runs here"] : ["Members", String(group.memberCount), `round ${group.round}`],
    ["At today’s rates", forecast(group), ""],
  ];
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="address flex items-center gap-1">
          {address}
          <Copy text={address} what="address" />
        </h1>
        <Mark state={group.state} word={group.verdict} wrap />
        {group.paused && group.state !== "paused" && (
          <Mark state="paused" word={isRoute ? "paused: it sends nothing" : "paused: members get nothing"} wrap />
        )}
        <span className="mr-auto" />
        <button className="button" onClick={() => void pause()}>
          {group.paused ? <Play size={15} aria-hidden /> : <Pause size={15} aria-hidden />}{" "}
          {group.paused ? (isRoute ? "Let it send" : "Let it read") : "Pause"}
        </button>
        {isRoute && (
          <button className="button" onClick={() => setSetting(true)}>
            <Pencil size={15} aria-hidden /> Set it
          </button>
        )}
        {seeks && (
          <>
            <button
              className="button"
              disabled={!list.some((m) => !m.undone && m.undoes === null)}
              onClick={() => setMoving("undo")}
            >
              <Undo2 size={15} aria-hidden /> Undo the last seek
            </button>
            <button className="button" data-main onClick={() => setMoving("seek")}>
              <MoveHorizontal size={15} aria-hidden /> Seek
            </button>
          </>
        )}
      </div>
      <p className="-mt-2 mb-3 text-soft">
        <Link className="address underline" to={source.endsWith("/dead") ? pageOf(source)! : `/channels/${source}?tab=groups`}>
          {source}
        </Link>
        {group.description && `: ${group.description}`}
      </p>
      <Figures all={figures} />
      {isRoute && <Leads route={group} />}
      {(group.outage ?? 0) > 0 && <Outage route={group} />}
      <LagCharts group={group} />
      <h2 className="mb-1">Partitions</h2>
      <Where group={group} />
      <h2 className="mt-5 mb-1">{isRoute ? "Work" : "Members"}</h2>
      {isRoute ? <RouteWork route={group} /> : <Members group={group} />}
      {isRoute && <Events address={address} />}
      {seeks && <h2 className="mt-5 mb-1">Seeks</h2>}
      {seeks && <History seeks={list} />}
      <div className="mt-5">
        <Declared of={group.declared} />
      </div>
      <p className="mt-5">
        <button className="button" data-alarm onClick={() => void remove(true)}>
          Remove the {group.kind}
        </button>
      </p>
      {removing && (
        <Dialog
          open
          onClose={() => setRemoving(undefined)}
          title={`Remove ${address}`}
          about={isRoute ? "It cannot be brought back." : "Its offsets cannot be brought back."}
        >
          <Effects preview={removing} />
          <div className="mt-3 flex gap-3">
            <button className="button" data-alarm onClick={() => void remove(false)}>
              Remove it
            </button>
            <button className="button" onClick={() => setRemoving(undefined)}>
              Keep it
            </button>
          </div>
        </Dialog>
      )}
      {setting && <RouteDialog source={group.channel} route={group} onClose={() => setSetting(false)} />}
      {moving && <SeekDialog group={group} undo={moving === "undo"} onClose={() => setMoving(undefined)} />}
    </>
  );
}
