import { useQuery, useQueryClient } from "@tanstack/react-query";
import { MoveHorizontal, Pause, Play, Undo2 } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { toast } from "sonner";
import { call, explain, get, groupPath, Problem, type Group, type GroupMove, type LagSample, type Preview } from "../api/client";
import { Chart } from "../components/Chart";
import { Copy } from "../components/Copy";
import { Mark } from "../components/Mark";
import { MoveDialog } from "../components/MoveDialog";
import { Effects } from "../components/Effects";
import { Dialog, Notice } from "../components/Panel";
import { Pennants } from "../components/Pennants";
import { ago, clock, count, many, rate } from "../lib/format";
import { useUrlState } from "../lib/url";
import { forecast, unread } from "./Groups";

const spans = { "10m": "10 minutes", "1h": "hour", "1d": "day", "30d": "30 days" } as const;

function Charts({ group }: { group: Group }) {
  const [params, change] = useUrlState();
  const chosen = params.get("span") ?? "10m";
  const history = useQuery({
    queryKey: ["history", group.address, chosen],
    queryFn: () => get<{ items: LagSample[] }>(`${groupPath(group.address)}/history?span=${chosen}`),
    refetchInterval: chosen === "10m" ? 2_000 : 10_000,
    placeholderData: (old) => old,
  });
  const samples = history.data?.items ?? [];
  const times = samples.map((s) => Date.parse(s.at) / 1000);
  return (
    <section className="mb-4">
      {samples.length < 2 ? (
        <p className="py-8 text-soft">The lag is noted every ten seconds; the first chart comes in a moment.</p>
      ) : (
        <div className="grid gap-x-6 gap-y-3 lg:grid-cols-2">
          <Chart label="Lag, messages" unit="" times={times} lines={[{ label: "lag", values: samples.map((s) => s.lag) }]} />
          <Chart
            label="Messages per second"
            unit="/s"
            times={times}
            lines={[
              { label: "arrivals", values: samples.map((s) => s.arrivalRate) },
              { label: "commits", values: samples.map((s) => s.commitRate), dashed: true },
            ]}
          />
        </div>
      )}
      <div className="flex gap-3 text-[length:var(--text-small)]">
        {Object.entries(spans).map(([key, name]) => (
          <button
            key={key}
            className={key === chosen ? "font-semibold" : "text-sea hover:underline"}
            aria-pressed={key === chosen}
            onClick={() => change({ span: key === "10m" ? "" : key })}
          >
            last {name}
          </button>
        ))}
      </div>
    </section>
  );
}

function Where({ group }: { group: Group }) {
  return (
    <div className="relative overflow-x-auto" role="region" aria-label="Partitions" tabIndex={0}>
      <table className="timetable">
        <thead>
          <tr>
            <th scope="col">Partition</th>
            <th scope="col" className="min-w-56">
              From the oldest kept to the end
            </th>
            <th scope="col" className="figures">
              Committed
            </th>
            <th scope="col" className="figures">
              End
            </th>
            <th scope="col" className="figures">
              Lag
            </th>
            <th scope="col" className="figures">
              Oldest unread
            </th>
            <th scope="col">Read by</th>
            <th scope="col" className="figures">
              Last commit
            </th>
            <th scope="col">How it does</th>
          </tr>
        </thead>
        <tbody>
          {group.partitions?.map((p) => (
            <tr key={p.partition}>
              <td>
                <Link className="address" to={`/channels/${group.channel}?partition=${p.partition}&from=offset:${p.committed}`}>
                  #{p.partition}
                </Link>
              </td>
              <td>
                <Pennants
                  first={p.first}
                  end={p.end}
                  pennants={[{ name: "", at: p.committed, state: p.state, title: `${many(p.lag, "message")} behind` }]}
                />
              </td>
              <td className="figures">{count(p.committed)}</td>
              <td className="figures">{count(p.end)}</td>
              <td className="figures">{count(p.lag)}</td>
              <td className="figures whitespace-nowrap">{unread(p.lagSeconds)}</td>
              <td className="whitespace-nowrap" title={p.member}>
                {p.member ? p.label || p.member.slice(0, 8) : <span className="text-soft">nobody</span>}
              </td>
              <td className="figures whitespace-nowrap">{p.committedAt ? `${ago(p.committedAt)} ago` : "–"}</td>
              <td className="whitespace-nowrap">
                <Mark state={p.state} word={p.verdict} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
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
  return (
    <div className="relative overflow-x-auto" role="region" aria-label="Members" tabIndex={0}>
      <table className="timetable">
        <thead>
          <tr>
            <th scope="col">Member</th>
            <th scope="col">Partitions</th>
            <th scope="col">Giving up</th>
            <th scope="col" className="figures">
              Since
            </th>
            <th scope="col" className={"figures max-md:hidden"}>
              Session time
            </th>
          </tr>
        </thead>
        <tbody>
          {group.members.map((m) => (
            <tr key={m.member}>
              <td title={m.member}>
                {m.label || m.member.slice(0, 8)} <Copy text={m.member} what="member id" />
              </td>
              <td>
                {m.partitions.map((p) => `#${p}`).join(" ") || <span className="text-soft">none: others read them all</span>}
              </td>
              <td>{m.leaving.map((p) => `#${p}`).join(" ")}</td>
              <td className="figures">{ago(m.joined)}</td>
              <td className="figures max-md:hidden">{m.session}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function History({ moves }: { moves: GroupMove[] }) {
  if (moves.length === 0) return <p className="text-soft">Its offsets were never moved by hand.</p>;
  return (
    <div className="relative overflow-x-auto" role="region" aria-label="Moves by hand" tabIndex={0}>
      <table className="timetable">
        <thead>
          <tr>
            <th scope="col">When</th>
            <th scope="col">Who</th>
            <th scope="col">To</th>
            <th scope="col" className="figures">
              Read again
            </th>
            <th scope="col" className="figures">
              Skipped
            </th>
            <th scope="col">Why</th>
          </tr>
        </thead>
        <tbody>
          {moves.map((m) => (
            <tr key={m.move}>
              <td className="whitespace-nowrap">{clock(m.at, false)}</td>
              <td>{m.who}</td>
              <td>
                {m.target} {m.undone && <span className="text-soft">(taken back)</span>}
              </td>
              <td className="figures">{count(m.steps.reduce((n, s) => n + s.again, 0))}</td>
              <td className="figures">{count(m.steps.reduce((n, s) => n + s.skipped, 0))}</td>
              <td>{m.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

export function GroupPage() {
  const { space, channel, group: name } = useParams();
  const address = `${space}/${channel}@${name}`;
  const client = useQueryClient();
  const navigate = useNavigate();
  const [moving, setMoving] = useState<"move" | "undo">();
  const [removing, setRemoving] = useState<Preview>();
  const whole = useQuery({
    queryKey: ["group", address],
    queryFn: () => get<Group>(groupPath(address)),
    refetchInterval: 1000,
    retry: (n, e) => !(e instanceof Problem) && n < 3,
  });
  const moves = useQuery({
    queryKey: ["moves", address],
    queryFn: () => get<{ items: GroupMove[] }>(`${groupPath(address)}/moves`),
    refetchInterval: 5000,
    placeholderData: (old) => old,
  });
  if (whole.error && !whole.data) {
    return (
      <Notice mark={<Mark state="attention" word="" />} title={explain(whole.error)}>
        <p>
          <Link to="/groups">All groups</Link>
        </p>
      </Notice>
    );
  }
  if (!whole.data) return <Notice title={`Waiting for ${address}`} />;
  const group = whole.data;
  const list = moves.data?.items ?? [];
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
  const figures: [string, string, string][] = [
    ["Lag", count(group.lag), "messages"],
    ["Oldest unread", unread(group.lagSeconds), ""],
    ["Arrivals", rate(group.arrivalRate), "/s"],
    ["Commits", rate(group.commitRate), "/s"],
    ["Members", String(group.memberCount), `generation ${group.generation}`],
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
        {group.paused && group.state !== "paused" && <Mark state="paused" word="paused: members get nothing" wrap />}
        <p className="mr-auto text-soft">
          {group.description}{" "}
          <Link className="underline" to={`/channels/${group.channel}?tab=groups`}>
            {group.channel}
          </Link>
        </p>
        <button className="button" onClick={() => void pause()}>
          {group.paused ? <Play size={15} aria-hidden /> : <Pause size={15} aria-hidden />}{" "}
          {group.paused ? "Let it read" : "Pause"}
        </button>
        <button className="button" disabled={!list.some((m) => !m.undone && m.undoes === null)} onClick={() => setMoving("undo")}>
          <Undo2 size={15} aria-hidden /> Undo the last move
        </button>
        <button className="button" data-main onClick={() => setMoving("move")}>
          <MoveHorizontal size={15} aria-hidden /> Move its offsets
        </button>
      </div>
      <dl className="mb-3 flex flex-wrap gap-x-6 gap-y-1">
        {figures.map(([title, value, unit]) => (
          <div key={title} className="min-w-28">
            <dt className="text-[length:var(--text-small)] text-soft">{title}</dt>
            <dd className="text-lg font-semibold tabular-nums">
              {value} <span className="text-[length:var(--text-small)] font-normal text-soft">{unit}</span>
            </dd>
          </div>
        ))}
      </dl>
      <Charts group={group} />
      <h2 className="mb-1">Partitions</h2>
      <Where group={group} />
      <h2 className="mt-5 mb-1">Members</h2>
      <Members group={group} />
      <h2 className="mt-5 mb-1">Moves by hand</h2>
      <History moves={list} />
      <p className="mt-5">
        <button className="button" data-alarm onClick={() => void remove(true)}>
          Remove the group
        </button>
      </p>
      {removing && (
        <Dialog
          open
          onClose={() => setRemoving(undefined)}
          title={`Remove ${address}`}
          about="Its offsets cannot be brought back."
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
      {moving && <MoveDialog group={group} undo={moving === "undo"} onClose={() => setMoving(undefined)} />}
    </>
  );
}
