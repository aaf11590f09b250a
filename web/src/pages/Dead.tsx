import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { explain, get, queuePath, type DeadLetters, type QueueMessage } from "../api/client";
import { useLive } from "../api/live";
import { ActionDialog, type Doing } from "../components/ActionDialog";
import { Copy, Command } from "../components/Copy";
import { Bars, DeadActions, DeadLetter, failing, fieldOf } from "../components/DeadLetter";
import { Mark } from "../components/Mark";
import { DeadRoutes } from "../components/DeadRoutes";
import { Notice } from "../components/Panel";
import { MayAt } from "../components/Part";
import { ago, count, many } from "../lib/format";
import { page, useHeld, useSteady } from "../lib/steady";
import { useVerbs } from "../lib/rights";
import { useUrlState } from "../lib/url";
import { readerPage } from "../lib/address";

/** Every queue and group with dead letters. */
export function DeadPlaces() {
  const { live } = useLive();
  if (!live) return <Notice title="Waiting for the service" />;
  const queues = live.channels.filter((t) => t.kind === "queue");
  if (live.dead.length === 0) {
    return (
      <Notice mark={<Mark state="ready" word="" />} title="Nothing has failed.">
        <p>
          A message of a queue that is rejected, or whose attempts are used up, waits here as a dead letter with the reason.
          Nobody has to set that up.
        </p>
        <Command text={queues[0] ? `ferry dead ${queues[0].address}` : "ferry new queue SPACE/NAME"} />
      </Notice>
    );
  }
  return (
    <>
      <h1 className="mb-3">What failed</h1>
      <div className="relative overflow-x-auto" role="region" aria-label="Dead letters" tabIndex={0}>
        <table className="timetable max-w-4xl">
          <thead>
            <tr>
              <th scope="col">Dead letters of</th>
              <th scope="col" className="figures">
                Dead
              </th>
              <th scope="col" className="figures">
                Discarded
              </th>
            </tr>
          </thead>
          <tbody>
            {live.dead.map((d) => (
              <tr key={d.address}>
                <td>
                  <Link className="address" to={`/dead/${d.address.replace(/\/dead$/, "")}`}>
                    {d.address}
                  </Link>
                </td>
                <td className="figures">{count(d.dead)}</td>
                <td className="figures">{count(d.discarded)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}

/** The dead letters of a queue or a group: causes, the messages of one, one in full. */
export function DeadPage() {
  const { space, channel } = useParams();
  const queue = `${space}/${channel}`;
  const address = `${queue}/dead`;
  const [params, change] = useUrlState();
  const [doing, setDoing] = useState<{ what: Doing; one?: QueueMessage }>();
  const [span, setSpan] = useState("1h");
  const discarded = params.get("show") === "discarded";
  const sees = useVerbs(queue)("see-content");
  const dead = useQuery({
    queryKey: ["dead", queue, span],
    queryFn: () => get<DeadLetters>(`${queuePath(queue)}/dead?span=${span}`),
    refetchInterval: 2000,
    placeholderData: (old) => old,
  });
  const causes = useSteady(dead.data?.causes ?? [], (c) => c.cause, queue);
  const chosen =
    causes.find((c) => c.cause === params.get("cause") || c.reason === params.get("reason")) ??
    (discarded ? undefined : causes[0]);
  const list = useQuery({
    queryKey: ["items", queue, chosen?.cause, discarded],
    queryFn: () =>
      get<{ items: QueueMessage[]; next: string }>(
        `${queuePath(queue)}/items?sort=newest&limit=${page}&state=${discarded ? "discarded" : "dead"}${chosen && !discarded ? `&cause=${chosen.cause}` : ""}`,
      ),
    enabled: discarded || chosen !== undefined,
    refetchInterval: 3000,
    placeholderData: (old) => old,
  });
  const { items, newer, show } = useHeld(
    list.isPlaceholderData ? undefined : list.data?.items,
    discarded ? "discarded" : (chosen?.cause ?? ""),
  );
  const open = items.find((m) => `${m.partition}:${m.offset}` === params.get("open")) ?? items[0];
  if (dead.error && !dead.data) {
    return (
      <Notice mark={<Mark state="attention" word="" />} title={explain(dead.error)}>
        <p>
          <Link to="/dead">All dead letters</Link>
        </p>
      </Notice>
    );
  }
  if (!dead.data) return <Notice title={`Waiting for ${address}`} />;
  const about = (one?: QueueMessage) =>
    one
      ? `One message of ${address}: ${one.address}`
      : discarded
        ? `All that was discarded of ${queue}`
        : `${many(chosen?.count ?? 0, "dead letter")} of ${queue} with one cause: ${chosen?.reason} ${chosen?.pattern ? `(${chosen.pattern})` : ""}`;
  const group = channel!.includes("@");
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
        <h1 className="address flex items-center gap-1">
          {address}
          <Copy text={address} what="address" />
        </h1>
        <Mark state={dead.data.deadTotal > 0 ? "dead" : "ready"} word={`${many(dead.data.deadTotal, "dead letter")}`} />
        <span className="text-soft">{many(causes.length, "cause")}</span>
        <span className="ml-auto flex items-center gap-3 text-[length:var(--text-small)]">
          {[false, true].map((d) => (
            <button
              key={String(d)}
              className={`min-h-6 ${d === discarded ? "font-semibold" : "text-sea hover:underline"}`}
              aria-pressed={d === discarded}
              onClick={() => change({ show: d ? "discarded" : "", open: "", cause: "" })}
            >
              {d ? "what was discarded" : "dead letters"}
            </button>
          ))}
          <Link to={group ? readerPage(queue) : `/channels/${queue}`}>{group ? "the group" : "the queue"}</Link>
        </span>
      </div>
      <DeadRoutes queue={queue} />
      {dead.data.deadTotal === 0 && !discarded ? (
        <Notice mark={<Mark state="ready" word="" />} title="No dead letters.">
          <p>Every message is done, under way or waiting. What fails comes here with its reason, by itself.</p>
          <Command text={`ferry dead ${queue}`} />
        </Notice>
      ) : (
        <div className="grid gap-5 xl:grid-cols-[21rem_minmax(0,1fr)_minmax(0,1.15fr)]">
          {!discarded && (
            <section aria-label="Causes">
              <h2 className="mb-1 flex items-baseline justify-between">
                Why{" "}
                <span className="flex gap-2 text-[length:var(--text-small)] font-normal">
                  {["1h", "1d", "14d"].map((s) => (
                    <button
                      key={s}
                      aria-pressed={s === span}
                      className={`min-h-6 min-w-6 px-1 ${s === span ? "font-semibold" : "text-sea hover:underline"}`}
                      onClick={() => setSpan(s)}
                    >
                      {s}
                    </button>
                  ))}
                </span>
              </h2>
              <ul>
                {causes.map((c) => (
                  <li key={c.cause} className="border-b border-hair">
                    <button
                      className={`w-full px-2 py-2 text-left ${c === chosen ? "border-l-3 border-sea bg-sheet" : "hover:bg-sunk"}`}
                      aria-pressed={c === chosen}
                      onClick={() => change({ cause: c.cause, open: "" })}
                    >
                      <span className="flex items-baseline justify-between gap-2">
                        <strong className="break-words">{c.reason}</strong>
                        <span className="text-lg font-semibold tabular-nums">{count(c.count)}</span>
                      </span>
                      <span className="block text-[length:var(--text-small)] break-words text-soft">
                        {c.pattern || (sees ? "no detail" : "details are hidden")}
                      </span>
                      <span className="mt-1 flex items-end justify-between gap-2 text-[length:var(--text-small)] text-soft">
                        <Bars cause={c} />
                        <span className="text-right whitespace-nowrap">
                          {Math.round(c.share * 100)}% of all
                          <br />
                          last {ago(c.lastSeen)} ago
                        </span>
                      </span>
                    </button>
                  </li>
                ))}
              </ul>
            </section>
          )}
          <section aria-label="Messages" className="min-w-0">
            <h2 className="mb-1 flex items-baseline justify-between">
              {discarded ? "Discarded" : "Messages of this cause"}
              <MayAt verbs={["export"]} at={queue}>
                <a
                  className="min-h-6 text-[length:var(--text-small)] font-normal"
                  href={`/api/v1${queuePath(queue)}/export?state=${discarded ? "discarded" : "dead"}${chosen && !discarded ? `&cause=${chosen.cause}` : ""}`}
                  download
                >
                  export
                </a>
              </MayAt>
            </h2>
            <div className="mb-2">
              {discarded ? (
                <button className="button" data-main disabled={items.length === 0} onClick={() => setDoing({ what: "undo" })}>
                  Undo all
                </button>
              ) : (
                <DeadActions at={queue} act={(what) => setDoing({ what })} />
              )}
            </div>
            {items.length === 0 && list.data && !list.isPlaceholderData && (
              <p className="text-soft">
                {discarded ? "Nothing is discarded: what is can be brought back for a while." : "None are left."}
              </p>
            )}
            <button
              className={`mb-1 min-h-6 text-[length:var(--text-small)] text-sea hover:underline ${newer === 0 ? "invisible" : ""}`}
              onClick={show}
            >
              show {count(newer)} newer
            </button>
            <div className="max-h-[70dvh] overflow-auto" role="region" aria-label="Messages of this cause" tabIndex={0}>
              <table className="timetable">
                <thead>
                  <tr>
                    <th scope="col">Message</th>
                    <th scope="col" className="figures">
                      Since
                    </th>
                    <th scope="col">{fieldOf(items) ? fieldOf(items) : "Key or body"}</th>
                  </tr>
                </thead>
                <tbody>
                  {items.map((m) => (
                    <tr key={m.address} aria-selected={m === open} className={m === open ? "bg-sheet" : ""}>
                      <td>
                        <button
                          className="address text-sea hover:underline"
                          onClick={() => change({ open: `${m.partition}:${m.offset}` })}
                        >
                          #{m.partition}:{m.offset}
                        </button>
                      </td>
                      <td className="figures whitespace-nowrap">{ago(m.deadAt ?? m.time)}</td>
                      <td className="max-w-60 truncate text-soft">{failing(m, fieldOf(items))}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          </section>
          {open && <DeadLetter message={open} act={(what) => setDoing({ what, one: open })} />}
        </div>
      )}
      {doing && (
        <ActionDialog
          address={address}
          doing={doing.what}
          choice={doing.one ? { messages: [doing.one.address] } : discarded ? {} : { cause: chosen?.cause }}
          what={about(doing.one)}
          onClose={() => setDoing(undefined)}
        />
      )}
    </>
  );
}
