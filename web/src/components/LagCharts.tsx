import { useQuery } from "@tanstack/react-query";
import { get, groupPath, type Group, type LagSample } from "../api/client";
import { Chart } from "./Chart";
import { Spans, useSpan } from "./Spans";

const spans = { "10m": "10 minutes", "1h": "hour", "1d": "day", "30d": "30 days" };

/** The lag of a group, and its rates, over a span that is in the URL. */
export function LagCharts({ group }: { group: Group }) {
  const chosen = useSpan(spans);
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
      <Spans spans={spans} />
    </section>
  );
}
