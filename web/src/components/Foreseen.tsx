import type { Chore } from "../api/client";
import { many } from "../lib/format";

/** A time in the zone of a chore, as its clocks show it. */
export function zoned(time: string, zone: string): string {
  return new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    weekday: "short",
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
    timeZoneName: "short",
  }).format(new Date(time));
}

/** When a chore runs next, and what it would do if it ran now. */
export function Foreseen({ chore: c }: { chore: Chore }) {
  return (
    <div className="grid gap-x-8 gap-y-3 sm:grid-cols-2" aria-label="What it will do" role="group">
      <section>
        <h3 className="label">Runs next</h3>
        {c.coming && c.coming.length > 0 ? (
          <ol className="tabular-nums">
            {c.coming.map((at) => (
              <li key={at}>{zoned(at, c.zone)}</li>
            ))}
          </ol>
        ) : (
          <p>{c.paused ? "It is paused." : `Not by time: ${c.runs}.`}</p>
        )}
      </section>
      <section>
        <h3 className="label">If it ran now{c.messages !== undefined && c.messages > 0 && `: ${many(c.messages, "message")}`}</h3>
        <ul className="space-y-1">
          {c.effects?.map((effect) => (
            <li key={effect}>{effect}</li>
          ))}
        </ul>
      </section>
    </div>
  );
}
