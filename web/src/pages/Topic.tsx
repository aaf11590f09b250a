import { useQuery } from "@tanstack/react-query";
import { Send } from "lucide-react";
import { useState } from "react";
import { Link, Navigate, useParams, useSearchParams } from "react-router";
import { channelPath, explain, get, type Found, type Channel } from "../api/client";
import { useLive, useLiveChannel } from "../api/live";
import { MayAt } from "../components/Part";
import { Rates } from "../components/Rates";
import { Copy } from "../components/Copy";
import { Figure } from "../components/Figures";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { SendDialog } from "../components/SendDialog";
import { ago, count, rate, size } from "../lib/format";
import { Messages } from "./Messages";
import { QueuePage } from "./Queue";
import { Partitions } from "./Partitions";
import { SettingsTab } from "./Settings";
import { TopicGroups } from "./TopicGroups";

const tabs = ["messages", "partitions", "groups", "settings"] as const;

/** An address that is no channel's: an endpoint has its own page. */
function NoChannel({ address, error }: { address: string; error: Error }) {
  const found = useQuery({
    queryKey: ["lookup", address],
    queryFn: () => get<Found>("/lookup?address=" + encodeURIComponent(address)),
  });
  if (found.data?.exists && found.data.kind === "endpoint") return <Navigate to={`/endpoints/${address}`} replace />;
  return (
    <Notice mark={<Mark state="attention" word="" />} title={explain(error)}>
      <p>
        <Link to="/channels">All channels</Link>
      </p>
    </Notice>
  );
}

export function TopicPage() {
  const { space, channel } = useParams();
  const address = `${space}/${channel}`;
  const [params, setParams] = useSearchParams();
  const [sending, setSending] = useState(false);
  const whole = useQuery({
    queryKey: ["topic", address],
    queryFn: () => get<Channel>(channelPath(address)),
    refetchInterval: 2000,
  });
  const live = useLiveChannel(address);
  const { live: all } = useLive();
  const tab = tabs.find((t) => t === params.get("tab")) ?? "messages";

  if (whole.error && !whole.data) return <NoChannel address={address} error={whole.error} />;
  if (!whole.data) return <Notice title={`Waiting for ${address}`} />;
  const topic = {
    ...whole.data,
    ...(live && {
      state: live.state,
      messages: live.messages,
      bytes: live.bytes,
      rates: live.rates,
      oldest: live.oldest,
      newest: live.newest,
      queue: live.queue,
    }),
  };
  if (topic.queue) return <QueuePage topic={topic} whole={whole.data} rates={<Rates address={address} queue />} />;
  const forecast = topic.forecast;
  const groups = all?.groups.filter((g) => g.channel === address) ?? [];

  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="address flex items-center gap-1">
          {topic.address}
          <Copy text={topic.address} what="address" />
        </h1>
        <Mark state={topic.state} />
        <p className="mr-auto text-soft">{topic.description}</p>
        <MayAt verbs={["publish"]} at={topic.address}>
          <button className="button" data-main disabled={topic.paused} onClick={() => setSending(true)}>
            <Send size={15} aria-hidden /> Send a message
          </button>
        </MayAt>
      </div>
      <dl className="mb-3 flex flex-wrap gap-x-6 gap-y-1">
        <Figure name="In" value={rate(topic.rates.messagesIn)} unit={`/s, ${size(topic.rates.bytesIn)}/s`} />
        <Figure name="Out" value={rate(topic.rates.messagesOut)} unit={`/s, ${size(topic.rates.bytesOut)}/s`} />
        <Figure name="Kept" value={count(topic.messages)} unit={`messages, ${size(topic.bytes)}`} />
        <Figure name="Oldest" value={ago(topic.oldest)} unit="old" />
        <Figure name="Keeps" value={topic.retain} unit={`or ${size(topic.retainBytes)} a partition`} />
        <Figure
          name="At the last hour's rate"
          value={forecast && forecast.messagesPerSecond > 0 ? size(forecast.bytes) : "–"}
          unit={forecast && forecast.messagesPerSecond > 0 ? `on disk, limited by ${forecast.limitedBy}` : "nothing came in"}
        />
      </dl>
      <Rates address={address} />
      <div className="mt-4 mb-3 flex flex-wrap gap-x-6 border-b border-hair" role="tablist" aria-label="Parts of the topic">
        {tabs.map((t) => (
          <button
            key={t}
            role="tab"
            id={`tab-${t}`}
            aria-selected={t === tab}
            aria-controls={`panel-${t}`}
            className={`-mb-px border-b-2 py-1.5 ${t === tab ? "border-sea font-semibold" : "border-transparent text-soft hover:text-ink"}`}
            onClick={() =>
              setParams(
                (p) => {
                  p.set("tab", t);
                  return p;
                },
                { replace: true },
              )
            }
          >
            {
              {
                messages: "Messages",
                partitions: `Partitions (${topic.partitionCount})`,
                groups: `Groups (${groups.length})`,
                settings: "Settings",
              }[t]
            }
          </button>
        ))}
      </div>
      <div role="tabpanel" id={`panel-${tab}`} aria-labelledby={`tab-${tab}`}>
        {tab === "messages" && <Messages topic={topic} />}
        {tab === "partitions" && <Partitions topic={topic} />}
        {tab === "groups" && <TopicGroups address={address} groups={groups} />}
        {tab === "settings" && <SettingsTab topic={whole.data} />}
      </div>
      {sending && <SendDialog topic={topic} onClose={() => setSending(false)} />}
    </>
  );
}
