import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Pause, Play, Radio } from "lucide-react";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { toast } from "sonner";
import {
  call,
  explain,
  get,
  type Endpoint,
  type EndpointAnswer,
  type Group,
  type Preview,
  type TableStatements,
} from "../api/client";
import { useLive } from "../api/live";
import { Absent } from "../components/Absent";
import { Command, Copy } from "../components/Copy";
import { Declared } from "../components/Declared";
import { Effects } from "../components/Effects";
import { EndpointSettings } from "../components/EndpointSettings";
import { Events } from "../components/Events";
import { Figures } from "../components/Figures";
import { Mark } from "../components/Mark";
import { Dialog } from "../components/Panel";
import { type Column, Timetable } from "../components/Timetable";
import { ago, clock, count, rate, span } from "../lib/format";
import { RouteLink } from "./Endpoints";
import { unread } from "./Groups";

const answerColumns: Column<EndpointAnswer>[] = [
  { key: "time", title: "Time", className: "whitespace-nowrap tabular-nums", show: (a) => clock(a.at, false) },
  { key: "verdict", title: "For the message", className: "whitespace-nowrap", show: (a) => <Mark state={a.verdict} /> },
  { key: "says", title: "Answer", className: "break-words", show: (a) => a.says },
];

const routeColumns: Column<Group>[] = [
  { key: "route", title: "Route", show: (g) => <RouteLink address={g.address} /> },
  { key: "state", title: "State", show: (g) => <Mark state={g.state} word={g.verdict} wrap /> },
  { key: "lag", title: "Lag", figures: true, show: (g) => count(g.lag) },
  { key: "unread", title: "Oldest unread", figures: true, wide: true, show: (g) => unread(g.lagSeconds) },
  { key: "in", title: "In, per second", figures: true, wide: true, show: (g) => rate(g.arrivalRate) },
  { key: "out", title: "Out, per second", figures: true, wide: true, show: (g) => rate(g.commitRate) },
];

/** The statements that make the table of an endpoint, and a button that does. */
function TableOf({ address }: { address: string }) {
  const client = useQueryClient();
  const path = `/endpoints/${address}/table`;
  const table = useQuery({
    queryKey: ["table", address],
    queryFn: () => call<TableStatements>("POST", `${path}?preview=true`),
    retry: false,
    refetchInterval: 10_000,
  });
  const statements = table.data?.statements ?? [];
  if (table.error) return <p className="text-soft">{explain(table.error)}</p>;
  if (statements.length === 0) return table.data ? <p className="text-soft">The table is there, with all its columns.</p> : null;
  const make = async () => {
    try {
      await call<TableStatements>("POST", path);
      await client.invalidateQueries({ queryKey: ["table", address] });
    } catch (e) {
      toast.error(explain(e));
    }
  };
  return (
    <>
      <p className="mb-1 text-soft">What the table lacks comes with these statements:</p>
      <Command text={statements.map((s) => s + ";").join("\n")} />
      <button className="button mt-2" onClick={() => void make()}>
        Create it
      </button>
    </>
  );
}

export function EndpointPage() {
  const { space, name } = useParams();
  const address = `${space}/${name}`;
  const client = useQueryClient();
  const navigate = useNavigate();
  const [removing, setRemoving] = useState<Preview>();
  const [tried, setTried] = useState<EndpointAnswer>();
  const [busy, setBusy] = useState(false);
  const { live } = useLive();
  const path = `/endpoints/${address}`;
  const whole = useQuery({
    queryKey: ["endpoint", address],
    queryFn: () => get<Endpoint>(path),
    refetchInterval: 1000,
  });
  if (!whole.data) return <Absent error={whole.error} what={address} all="All endpoints" to="/endpoints" />;
  const e = whole.data;
  const routes = live?.groups.filter((g) => g.kind === "route" && g.to === address) ?? [];
  const attempt = async (f: () => Promise<void>) => {
    setBusy(true);
    try {
      await f();
      await client.invalidateQueries({ queryKey: ["endpoint", address] });
    } catch (error) {
      toast.error(explain(error));
    }
    setBusy(false);
  };
  const remove = (preview: boolean) =>
    attempt(async () => {
      const p = await call<Preview>("DELETE", `${path}?preview=${preview}`);
      if (preview) return setRemoving(p);
      toast.success(`${address} is removed`);
      navigate("/endpoints");
    });
  const figures: [string, string, string][] = [
    ["Delivered", count(e.delivered), "messages"],
    ["Refused", count(e.refused), "messages"],
    ["Failed", count(e.failed), "deliveries"],
    ["Last good", e.lastGood ? `${ago(e.lastGood)} ago` : "never", ""],
    ...(e.failingSince ? ([["Failing for", ago(e.failingSince), ""]] as [string, string, string][]) : []),
    ...(e.certificateEnds
      ? ([["Certificate ends in", span(Date.parse(e.certificateEnds) - Date.now()), ""]] as [string, string, string][])
      : []),
    ...(e.rate > 0 ? ([["For now at most", rate(e.rate), "/s"]] as [string, string, string][]) : []),
  ];
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="address flex items-center gap-1">
          {address}
          <Copy text={address} what="address" />
        </h1>
        <Mark state={e.state} word={e.verdict} wrap />
        <span className="mr-auto" />
        <button
          className="button"
          onClick={() => void attempt(async () => void (await call<Preview>("PATCH", path, { paused: !e.paused })))}
        >
          {e.paused ? <Play size={15} aria-hidden /> : <Pause size={15} aria-hidden />} {e.paused ? "End the pause" : "Pause"}
        </button>
        <button
          className="button"
          data-main
          disabled={busy}
          onClick={() => void attempt(async () => setTried(await call<EndpointAnswer>("POST", `${path}/trials`)))}
        >
          <Radio size={15} aria-hidden /> Try it now
        </button>
      </div>
      <p className="-mt-2 mb-3 break-all text-soft">
        <span className="address">{e.url}</span>
        {e.description && `: ${e.description}`}
      </p>
      {tried && (
        <p className="mb-3" role="status">
          <Mark state={tried.verdict} word={`tried at ${clock(tried.at, false)}: ${tried.says}`} wrap />
        </p>
      )}
      <Figures all={figures} />
      <h2 className="mb-1">Routes that lead here</h2>
      {e.routes.length > 0 ? (
        <Timetable label="Routes" columns={routeColumns} rows={routes} rowKey={(g) => g.address} />
      ) : (
        <p className="text-soft">
          None yet: <code>ferry new route SPACE/CHANNEL@NAME -to {address}</code>
        </p>
      )}
      <h2 className="mt-5 mb-1">Last answers</h2>
      {e.answers?.length ? (
        <Timetable label="Last answers" columns={answerColumns} rows={e.answers.slice(0, 8)} rowKey={(a) => a.at + a.says} />
      ) : (
        <p className="text-soft">Nothing was delivered since the nodes began.</p>
      )}
      <Events address={address} />
      {e.kind === "table" && (
        <section>
          <h2 className="mt-5 mb-1">Table</h2>
          <TableOf address={address} />
        </section>
      )}
      <h2 className="mt-5 mb-2">Settings</h2>
      <div className="grid gap-8 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <EndpointSettings of={e} />
        <aside className="space-y-4">
          <Declared of={e.declared} />
          <section>
            <h2>Remove</h2>
            <p className="mb-2 text-soft">With its secrets, and for good. No route may lead here.</p>
            <button className="button" data-alarm onClick={() => void remove(true)}>
              Remove the endpoint
            </button>
          </section>
        </aside>
      </div>
      {removing && (
        <Dialog open onClose={() => setRemoving(undefined)} title={`Remove ${address}`} about="It cannot be brought back.">
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
    </>
  );
}
