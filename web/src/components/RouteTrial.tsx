import type { Message, RouteTrial, TrialSample } from "../api/client";
import { clock, count, many, rate } from "../lib/format";
import { Chart } from "./Chart";
import { Changes } from "./Edits";
import { Mark } from "./Mark";

// What a route notes of itself is no news.
const own = (headers: Record<string, string>) =>
  Object.fromEntries(Object.entries(headers).filter(([name]) => !/^ferry-(route|route-from|hops)$/.test(name)));

const part = (n: number, of: number) => (of > 0 ? `${((100 * n) / of).toFixed(1)} %` : "–");

function Sample({ sample }: { sample: TrialSample }) {
  const { before, after, failed } = sample;
  return (
    <li className="border-b border-hair py-1.5">
      <span className="address text-soft">{before.address}</span>
      {failed ? (
        <>
          <pre className="address overflow-x-auto">{JSON.stringify(before.body)}</pre>
          <Mark state="dead" word={failed} wrap />
        </>
      ) : (
        <Changes before={before} after={after && { ...after, headers: own(after.headers) }} />
      )}
    </li>
  );
}

function LeftOut({ message }: { message: Message }) {
  return (
    <li className="border-b border-hair py-1.5">
      <span className="address text-soft">{message.address}</span>
      <pre className="address overflow-x-auto">{JSON.stringify(message.body)}</pre>
    </li>
  );
}

/** What a route would have done with a past: nothing was sent. */
export function TrialResult({ trial }: { trial: RouteTrial }) {
  const { lookedAt, total, was } = trial;
  const figures: [string, string, string][] = [
    ["Sent", count(trial.sent), part(trial.sent, lookedAt)],
    ["Left out", count(trial.leftOut), part(trial.leftOut, lookedAt)],
    ["Dead letters", count(trial.failed), part(trial.failed, lookedAt)],
    ["At most", rate(trial.peak), "/s"],
  ];
  if (!trial.outside)
    figures.push(["The target gets now", rate(trial.in), "/s"], ["Its readers take now", rate(trial.readers), "/s"]);
  return (
    <section aria-label="Tried on the past" className="min-w-0">
      <p className="text-[length:var(--text-small)] text-soft" role="status">
        Looked at{" "}
        {lookedAt < total ? `${count(lookedAt)} of ${many(total, "message")}, as far as there was time` : many(total, "message")}{" "}
        since {clock(trial.since, false)}. Nothing was sent.
      </p>
      <dl className="my-2 flex flex-wrap gap-x-5 gap-y-1">
        {figures.map(([title, value, unit]) => (
          <div key={title}>
            <dt className="text-[length:var(--text-small)] text-soft">{title}</dt>
            <dd className="font-semibold tabular-nums">
              {value} <span className="text-[length:var(--text-small)] font-normal text-soft">{unit}</span>
            </dd>
          </div>
        ))}
      </dl>
      {trial.unlike > 0 && (
        <Mark state="attention" word={`does not apply to ${many(trial.unlike, "message")}: ${trial.why}`} wrap />
      )}
      {was && (
        <p>
          As it is set, {many(was.sent, "message")}: then {count(was.onlyWas)} no longer, {count(was.onlyNow)} more,{" "}
          {count(was.other)} with another content.
        </p>
      )}
      {trial.steps.length > 1 && (
        <Chart
          label="Sent per second"
          unit="/s"
          times={trial.steps.map((s) => Date.parse(s.at) / 1000)}
          lines={[{ label: "sent", values: trial.steps.map((s) => s.sent / trial.stepSeconds) }]}
        />
      )}
      {trial.failures.map((f) => (
        <p key={f.reason + f.detail} className="mt-1">
          <Mark state="dead" word={f.reason} /> {many(f.count, "message")}: <span className="text-soft">{f.detail}</span>{" "}
          <span className="address text-soft">{f.example}</span>
        </p>
      ))}
      <div className="mt-3 grid gap-x-6 sm:grid-cols-2">
        <div className="min-w-0">
          <h3>Sent</h3>
          <ul>
            {trial.samples.map((s) => (
              <Sample key={s.before.address} sample={s} />
            ))}
          </ul>
          {trial.samples.length === 0 && <p className="text-soft">No message.</p>}
        </div>
        <div className="min-w-0">
          <h3>Left out</h3>
          <ul>
            {trial.others.map((m) => (
              <LeftOut key={m.address} message={m} />
            ))}
          </ul>
          {trial.others.length === 0 && <p className="text-soft">No message.</p>}
        </div>
      </div>
    </section>
  );
}
