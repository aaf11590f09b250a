// Positions as people type them, in the zone of the browser; what the service
// reads is made of them. The client reads the same.

const time = (at: Date) => `time:${at.toISOString()}`;

/** The beginning of a day, so many days before that of now. */
export function midnight(now: Date, before = 0): Date {
  return new Date(now.getFullYear(), now.getMonth(), now.getDate() - before);
}

const day = /^(\d{4})-(\d\d)-(\d\d)(?:[ T](\d\d):(\d\d)(?::(\d\d))?)?$/;
const duration = /^(?:\d+(?:\.\d+)?(?:d|h|ms|m|s))+$/;

/** Reads a position as it is typed. What it does not know stays as it is: the
 *  service says what is wrong with it. */
export function typed(text: string, now = new Date()): string {
  const trimmed = text.trim();
  if (trimmed === "today") return time(midnight(now));
  if (trimmed === "yesterday") return time(midnight(now, 1));
  const parts = day.exec(trimmed);
  if (parts) {
    const [year, month, date, hour, minute, second] = parts.slice(1).map((p) => Number(p ?? 0));
    const at = new Date(year!, month! - 1, date, hour, minute, second);
    if (at.getMonth() === month! - 1 && at.getDate() === date) return time(at);
  }
  if (/^\d{4}-.*Z$/.test(trimmed) && !Number.isNaN(Date.parse(trimmed))) return `time:${trimmed}`;
  if (duration.test(trimmed)) return `ago:${trimmed}`;
  return trimmed;
}

export type Period = { from: string; to: string };

/** Periods that are asked for most. */
export function periods(now = new Date()): { name: string; period: Period }[] {
  return [
    { name: "Last hour", period: { from: "ago:1h", to: "end" } },
    { name: "Today", period: { from: time(midnight(now)), to: "end" } },
    { name: "Yesterday", period: { from: time(midnight(now, 1)), to: time(midnight(now)) } },
    { name: "All that is kept", period: { from: "first", to: "end" } },
  ];
}

/** All of the days from one to another, which are given as a calendar has them. */
export function days(from: string, to: string): Period {
  const [year, month, date] = to.split("-").map(Number);
  return { from: typed(from), to: time(new Date(year!, month! - 1, date! + 1)) };
}
