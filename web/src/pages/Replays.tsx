import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Pause, Play, Square } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import { call, explain, get, type Replay } from "../api/client";
import { Command } from "../components/Copy";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { editText } from "../lib/edits";
import { pageOf } from "../lib/address";
import { clock, count, rate, span } from "../lib/format";
import { useUrlState } from "../lib/url";

const open = (r: Replay) => r.state === "running" || r.state === "paused";

/** How far a replay is, as a length. */
function Progress({ replay }: { replay: Replay }) {
  const share = (n: number) => `${(100 * n) / Math.max(replay.total, 1)}%`;
  return (
    <div
      className="flex h-3 w-full overflow-hidden rounded-sm border border-strong bg-sunk"
      role="progressbar"
      aria-label={`replay ${replay.replay}`}
      aria-valuemin={0}
      aria-valuemax={replay.total}
      aria-valuenow={replay.sent + replay.skipped}
    >
      <span style={{ width: share(replay.sent - replay.failed), background: "var(--sea)" }} />
      <span style={{ width: share(replay.failed), background: "var(--alarm)" }} />
      <span style={{ width: share(replay.skipped), background: "var(--stopped)" }} />
    </div>
  );
}

function One({ replay }: { replay: Replay }) {
  const client = useQueryClient();
  const [pace, setPace] = useState("");
  const change = async (body: { state?: string; rate?: number }) => {
    try {
      await call<Replay>("PATCH", `/replays/${replay.replay}`, body);
      await client.invalidateQueries({ queryKey: ["replays"] });
    } catch (e) {
      toast.error(explain(e));
    }
  };
  const left = replay.endsAt ? Math.max(Date.parse(replay.endsAt) - Date.now(), 0) : 0;
  return (
    <section aria-label={`Replay ${replay.replay}`} className="border-b border-hair py-3">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <h2 className="tabular-nums">Replay {replay.replay}</h2>
        <Mark state={replay.state} />
        <span>
          <Link className="address" to={pageOf(replay.from) ?? "#"}>
            {replay.from}
          </Link>{" "}
          <span aria-label="to">→</span>{" "}
          <Link className="address" to={pageOf(replay.to) ?? "#"}>
            {replay.to}
          </Link>
        </span>
        <span className="text-soft">
          begun {clock(replay.createdAt, false)} by {replay.who}
          {replay.endedAt && `, ended ${clock(replay.endedAt, false)}`}
        </span>
      </div>
      <div className="my-1.5 max-w-4xl">
        <Progress replay={replay} />
      </div>
      <p className="flex flex-wrap gap-x-6 tabular-nums">
        <span>
          <strong>{count(replay.sent)}</strong> of {count(replay.total)} sent
        </span>
        <span className={replay.failed > 0 ? "text-alarm" : "text-soft"}>{count(replay.failed)} failed again</span>
        {replay.skipped > 0 && <span className="text-soft">{count(replay.skipped)} skipped</span>}
        <span className="text-soft">{rate(replay.rate)}/s</span>
        {replay.state === "running" && <span className="text-soft">done in {span(left)}</span>}
      </p>
      {replay.detail && <p className="text-alarm">■ {replay.detail}</p>}
      {(replay.choice.cause || replay.choice.where || replay.edits.length > 0) && (
        <p className="address text-[length:var(--text-small)] break-words text-soft">
          {[replay.choice.cause && `cause ${replay.choice.cause}`, replay.choice.where, ...replay.edits.map(editText)]
            .filter(Boolean)
            .join("; ")}
        </p>
      )}
      {open(replay) && (
        <form
          className="mt-2 flex flex-wrap items-center gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            void change({ rate: Number(pace) });
            setPace("");
          }}
        >
          <button
            type="button"
            className="button"
            onClick={() => void change({ state: replay.state === "paused" ? "running" : "paused" })}
          >
            {replay.state === "paused" ? <Play size={15} aria-hidden /> : <Pause size={15} aria-hidden />}
            {replay.state === "paused" ? "Go on" : "Pause"}
          </button>
          <button type="button" className="button" data-alarm onClick={() => void change({ state: "cancelled" })}>
            <Square size={13} aria-hidden /> Cancel it
          </button>
          <label className="flex items-center gap-2">
            <span className="text-soft">rate, /s</span>
            <input
              className="field max-w-24"
              inputMode="decimal"
              value={pace}
              placeholder={String(replay.rate)}
              onChange={(e) => setPace(e.target.value)}
            />
          </label>
          <button className="button" disabled={!(Number(pace) > 0)}>
            Set the rate
          </button>
        </form>
      )}
    </section>
  );
}

export function ReplaysPage() {
  const [params] = useUrlState();
  const all = useQuery({
    queryKey: ["replays"],
    queryFn: () => get<{ items: Replay[] }>("/replays?limit=100"),
    refetchInterval: 1000,
    placeholderData: (old) => old,
  });
  if (all.error && !all.data) return <Notice mark={<Mark state="attention" word="" />} title={explain(all.error)} />;
  if (!all.data) return <Notice title="Waiting for the replays" />;
  const chosen = Number(params.get("open"));
  const items = [...all.data.items].sort(
    (a, b) =>
      Number(b.replay === chosen) - Number(a.replay === chosen) || Number(open(b)) - Number(open(a)) || b.replay - a.replay,
  );
  return (
    <>
      <h1 className="mb-2">What is sent again</h1>
      {items.length === 0 ? (
        <Notice title="Nothing was sent again yet.">
          <p>A replay sends a selection again at a rate: from a topic’s past, or from dead letters.</p>
          <Command text="ferry replay coldchain/readings -to coldchain/inspections -from ago:1h -where 'body.celsius > 8' -rate 50/s" />
        </Notice>
      ) : (
        items.map((r) => <One key={r.replay} replay={r} />)
      )}
    </>
  );
}
