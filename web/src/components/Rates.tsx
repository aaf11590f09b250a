import { useQuery } from "@tanstack/react-query";
import { channelPath, get, type Measured, type Series } from "../api/client";
import { Chart, type Line } from "./Chart";
import { Spans, useSpan } from "./Spans";

const spans = { "5m": "5 minutes", "1h": "hour", "1d": "day", "7d": "week", "30d": "30 days" };

type Drawn = { times: number[]; line: (name: string, label: string, dashed?: boolean) => Line };

/** What came and went lately, counted exactly. */
function counted({ start, stepSeconds: step, flow }: Series): Drawn {
  const begin = Date.parse(start) / 1000;
  const of = { "in-rate": flow.map((f) => f.messagesIn / step), "out-rate": flow.map((f) => f.messagesOut / step) };
  return {
    times: flow.map((_, i) => begin + i * step),
    line: (name, label, dashed) => ({ label, dashed, values: of[name as keyof typeof of] ?? [] }),
  };
}

/** What was measured over a longer time, from when that began. */
function measured({ begin, stepSeconds: step, values }: Measured): Drawn {
  const all = (name: string) => values.find((v) => v.name === name)?.figures ?? [];
  const since = all("in-rate").findIndex((f) => f !== null);
  const of = (name: string) => (since < 0 ? [] : all(name).slice(since));
  const first = Date.parse(begin) / 1000 + since * step;
  return {
    times: of("in-rate").map((_, i) => first + i * step),
    line: (name, label, dashed) => ({ label, dashed, values: of(name) }),
  };
}

/** What a channel got and gave, over a span that is in the URL; of a queue over a longer one also what was left. */
export function Rates({ address, queue }: { address: string; queue?: boolean }) {
  const span = useSpan(spans);
  const short = span === "5m" || span === "1h";
  const data = useQuery({
    queryKey: ["rates", address, span],
    queryFn: async () =>
      short
        ? counted(await get<Series>(`${channelPath(address)}/rates?span=${span}`))
        : measured(await get<Measured>(`/measured?address=${encodeURIComponent(address)}&span=${span}`)),
    refetchInterval: span === "5m" ? 2_000 : 10_000,
    placeholderData: (old) => old,
  });
  return (
    <section>
      {!data.data ? (
        <div className="h-40" />
      ) : data.data.times.length < 2 ? (
        <p className="h-40 py-8 text-soft">Channels are measured every ten seconds; the first chart comes in a moment.</p>
      ) : (
        <div className={queue && !short ? "grid gap-x-6 gap-y-3 lg:grid-cols-2" : ""}>
          <Chart
            label="Messages per second"
            unit="/s"
            times={data.data.times}
            lines={[data.data.line("in-rate", "in"), data.data.line("out-rate", "out", true)]}
          />
          {queue && !short && (
            <Chart
              label="Messages that are left"
              unit=""
              times={data.data.times}
              lines={[data.data.line("waiting", "waiting"), data.data.line("dead", "dead", true)]}
            />
          )}
        </div>
      )}
      <Spans spans={spans} />
    </section>
  );
}
