import { useLive } from "../api/live";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { ago, clock, count, rate, size } from "../lib/format";

export function NodePage() {
  const { live, connected, at } = useLive();
  if (!live) return <Notice title="Waiting for the first figures" />;
  const s = live.status;
  const used = 1 - s.disk.free / s.disk.total;
  const facts: [string, React.ReactNode][] = [
    [
      "State",
      <Mark
        state={s.disk.full ? "disk full" : connected ? "ready" : "starting"}
        word={s.disk.full ? "disk full, publishing is refused" : connected ? "serving" : "not connected"}
      />,
    ],
    ["Version", s.version],
    ["Up since", `${clock(s.startedAt, false)} (${ago(s.startedAt, at)})`],
    [
      "Records",
      s.records === "here" ? (
        <Mark state="ready" word="the database answers" />
      ) : (
        <Mark state="attention" word={`the database is ${s.records}`} />
      ),
    ],
    ["Memory", size(s.memoryBytes)],
    ["Spaces, channels, partitions", `${count(s.spaces)}, ${count(s.channels)}, ${count(s.partitions)}`],
    ["Kept", `${count(s.messages)} messages, ${size(s.bytes)}`],
    ["In", `${rate(s.rates.messagesIn)} messages/s, ${size(s.rates.bytesIn)}/s`],
    ["Out", `${rate(s.rates.messagesOut)} messages/s, ${size(s.rates.bytesOut)}/s`],
    ["Open tails and browses", count(s.streams)],
  ];
  return (
    <>
      <h1 className="mb-4">What is running</h1>
      <h2 className="address">{s.node}</h2>
      <dl className="mt-2 grid max-w-2xl grid-cols-[13rem_minmax(0,1fr)]">
        {facts.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="border-b border-hair py-1 text-soft">{name}</dt>
            <dd className="border-b border-hair py-1 tabular-nums">{value}</dd>
          </div>
        ))}
      </dl>
      <section className="mt-6 max-w-2xl">
        <h2>Disk</h2>
        <svg
          viewBox="0 0 1000 14"
          preserveAspectRatio="none"
          className="mt-1 h-3.5 w-full"
          role="img"
          aria-label={`${Math.round(used * 100)} % of the disk is used`}
        >
          <rect width="1000" height="14" fill="var(--sea-soft)" />
          <rect width={used * 1000} height="14" fill="var(--sea)" />
          <rect x={1000 - (s.disk.reserve / s.disk.total) * 1000 - 2} width="2" height="14" fill="var(--alarm)" />
        </svg>
        <p className="text-[length:var(--text-small)] text-soft">
          {size(s.disk.free)} of {size(s.disk.total)} free. Publishing is refused below {size(s.disk.reserve)} and goes on by
          itself when there is room again.
        </p>
      </section>
    </>
  );
}
