import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Split } from "lucide-react";
import { lazy, Suspense, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import {
  call,
  channelPath,
  explain,
  get,
  groupPath,
  type Endpoint,
  type Group,
  type Preview,
  type RouteTrial,
} from "../api/client";
import { useLive } from "../api/live";
import { parseEdits } from "../lib/edits";
import { parse, readerAddress, readerPage } from "../lib/address";
import { quote } from "../lib/format";
import { Command } from "./Copy";
import { EditsField } from "./Edits";
import { Failure } from "./Failure";
import { Dialog } from "./Panel";
import { MayAt } from "./Part";
import { TrialResult } from "./RouteTrial";

const Condition = lazy(() => import("./Condition"));

const quiet = 500; // ms without a key before a trial

/** A value that follows another one when that has not changed for a while. */
function useSettled<T>(value: T, text: string): T {
  const [settled, setSettled] = useState({ value, text });
  useEffect(() => {
    const timer = setTimeout(() => setSettled({ value, text }), quiet);
    return () => clearTimeout(timer);
    // The text says all of the value.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [text]);
  return settled.value;
}

const pasts = ["ago:10m", "ago:1h", "ago:24h", "first"];

/** A button that makes a route from a channel or from dead letters. */
export function NewRoute({ source, children }: { source: string; children: React.ReactNode }) {
  const [making, setMaking] = useState(false);
  return (
    <>
      <MayAt verbs={["route"]} at={source}>
        <button className="button" onClick={() => setMaking(true)}>
          <Split size={15} aria-hidden /> {children}
        </button>
      </MayAt>
      {making && <RouteDialog source={source} onClose={() => setMaking(false)} />}
    </>
  );
}

const abouts = {
  topic: "It sends what fulfils the condition to another channel, each message once, or to an endpoint.",
  queue:
    "It takes what fulfils the condition from the queue, and sends it to another channel, each message once, or to an endpoint.",
  dead: "It copies what becomes a dead letter and fulfils the condition to another channel, once, or to an endpoint. The dead letters stay.",
};

/**
 * Makes a route from a source, a channel or its dead letters, or sets one that is there; what it would do is tried
 * on the past as it is typed.
 */
export function RouteDialog({ source, route, onClose }: { source: string; route?: Group; onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { live } = useLive();
  const at = parse(route?.address ?? source);
  const channel = `${at?.space}/${at?.channel}`;
  const isQueue = live?.channels.find((c) => c.address === channel)?.kind === "queue";
  const dead = route ? route.address.includes("/dead@") : Boolean(at?.dead);
  const reads = dead ? "dead" : isQueue ? "queue" : "topic";
  const [form, setForm] = useState({
    name: route?.group ?? "",
    to: route?.to ?? "",
    where: route?.where ?? "",
    edits: route?.edits?.join("\n") ?? "",
    from: "end",
    past: "ago:1h",
  });
  const [failed, setFailed] = useState("");
  const [busy, setBusy] = useState(false);
  const set = (part: Partial<typeof form>) => setForm((f) => ({ ...f, ...part }));
  const { wrong } = parseEdits(form.edits);
  const edits = form.edits.split("\n").filter((l) => l.trim());
  const settings = { ...(!route && { to: form.to }), where: form.where, edits };
  const named = (name: string) => (dead ? `${at?.reader ? `${at.reader}/` : ""}dead@${name}` : name);
  const asked = { since: form.past, route: route?.group ?? (dead ? named("new") : ""), ...settings };
  const text = JSON.stringify(asked);
  const settled = useSettled(asked, text);
  const outside = useQuery({ queryKey: ["endpoints"], queryFn: () => get<{ items: Endpoint[] }>("/endpoints?limit=1000") });
  const known = [...(live?.channels ?? []), ...(outside.data?.items ?? [])].map((c) => c.address);
  const ready = Boolean(route) || known.includes(form.to);
  const trial = useQuery({
    queryKey: ["trial", channel, settled],
    queryFn: ({ signal }) => call<RouteTrial>("POST", `${channelPath(channel)}/route-trials`, settled, signal),
    enabled: ready && !wrong,
    retry: false,
    placeholderData: (old) => old,
    gcTime: 0,
  });
  const address = route?.address ?? readerAddress(channel, named(form.name || "NAME"));
  const flags = [
    !route && `-to ${form.to || "ADDRESS"}`,
    form.where && `-where ${quote(form.where)}`,
    ...edits.map((e) => `-edit ${quote(e)}`),
    !route && reads !== "queue" && form.from !== "end" && `-from ${form.from}`,
  ];
  const command = `ferry ${route ? "set" : "new route"} ${address} ${flags.filter(Boolean).join(" ")}`;
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      if (route) {
        await call<Preview>("PATCH", groupPath(route.address), settings);
        await client.invalidateQueries({ queryKey: ["group", route.address] });
        toast.success(`${route.address} is set`);
      } else {
        await call<Group>("POST", `${channelPath(channel)}/groups`, {
          kind: "route",
          group: named(form.name),
          from: reads === "queue" ? "first" : form.from,
          ...settings,
        });
        navigate(readerPage(address));
      }
      onClose();
    } catch (error) {
      setFailed(explain(error));
      setBusy(false);
    }
  };
  return (
    <Dialog open wide onClose={onClose} title={route ? `Set ${route.address}` : `New route from ${source}`} about={abouts[reads]}>
      <form onSubmit={submit} className="space-y-3">
        {!route && (
          <div className="grid gap-3 sm:grid-cols-3">
            <label className="block">
              <span className="label">Name</span>
              <input
                className="field address"
                value={form.name}
                onChange={(e) => set({ name: e.target.value })}
                required
                autoFocus
              />
            </label>
            <label className="block">
              <span className="label">Leads to</span>
              <input
                className="field address"
                list="targets"
                value={form.to}
                onChange={(e) => set({ to: e.target.value })}
                required
              />
              <datalist id="targets">
                {known
                  .filter((c) => c !== channel)
                  .map((c) => (
                    <option key={c} value={c} />
                  ))}
              </datalist>
            </label>
            <label className={reads === "queue" ? "hidden" : "block"}>
              <span className="label">Starts at</span>
              <select className="field" value={form.from} onChange={(e) => set({ from: e.target.value })}>
                <option value="end">the end: what comes from now on</option>
                {!dead && <option value="ago:1h">an hour ago</option>}
                <option value="first">{dead ? "the oldest dead letter" : "the oldest kept message"}</option>
              </select>
            </label>
          </div>
        )}
        <div>
          <span className="label">Sends what fulfils</span>
          <Suspense fallback={<div className="field">{form.where}</div>}>
            <Condition value={form.where} fields={[]} onChange={(where) => set({ where })} onRun={() => undefined} />
          </Suspense>
        </div>
        <EditsField label="Edits, one a line" value={form.edits} onChange={(edits) => set({ edits })} wrong={wrong} />
        {route && (
          <p className="text-soft">
            This holds for messages that come from now on; what waits is decided by the settings that it came under.
          </p>
        )}
        <Command text={command} />
        <Failure text={failed} />
        <button className="button" data-main disabled={busy || !form.name || !ready || wrong !== ""}>
          {route ? "Set it" : "Make the route"}
        </button>
      </form>
      <div className="mt-4 border-t border-hair pt-3">
        <label className="mb-2 flex items-center gap-2">
          Tried on
          <select className="field w-auto" value={form.past} onChange={(e) => set({ past: e.target.value })}>
            {pasts.map((p) => (
              <option key={p} value={p}>
                {p === "first" ? "all that is kept" : `the last ${p.slice(4)}`}
              </option>
            ))}
          </select>
        </label>
        {!ready && <p className="text-soft">Say where it leads to, and see here what it would have sent.</p>}
        {ready && trial.error && <Failure text={explain(trial.error)} />}
        {ready && trial.data && <TrialResult trial={trial.data} />}
      </div>
    </Dialog>
  );
}
