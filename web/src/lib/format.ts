// How figures, sizes, times and addresses are written everywhere.
const whole = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

export const count = (n: number) => whole.format(n);

export function rate(n: number): string {
  return n > 0 && n < 10 ? n.toFixed(1) : whole.format(n);
}

const units = ["B", "KiB", "MiB", "GiB", "TiB"];

export function size(n: number): string {
  let unit = 0;
  while (n >= 1024 && unit < units.length - 1) {
    n /= 1024;
    unit++;
  }
  return `${unit === 0 || n >= 100 ? Math.round(n) : n.toFixed(1)} ${units[unit]}`;
}

/** A count in little room: 987, 12k, 3M. */
export function short(n: number): string {
  if (n < 1000) return String(n);
  if (n < 1_000_000) return `${Math.floor(n / 1000)}k`;
  return `${Math.floor(n / 1_000_000)}M`;
}

/** A span of time by its largest two units. */
export function span(ms: number): string {
  const s = Math.max(0, Math.floor(ms / 1000));
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`;
}

export const ago = (time: string | null | undefined, now = Date.now()) => (time ? span(now - Date.parse(time)) : "–");

const clockFormat = new Intl.DateTimeFormat("en-GB", {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  fractionalSecondDigits: 3,
});
const dayFormat = new Intl.DateTimeFormat("en-GB", { day: "2-digit", month: "short" });
const shortFormat = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });

/** The time of day, with the day when it is not today. */
export function clock(time: string | number | Date, exact = true): string {
  const d = new Date(time);
  const text = (exact ? clockFormat : shortFormat).format(d);
  return d.toDateString() === new Date().toDateString() ? text : `${dayFormat.format(d)} ${text}`;
}

/** Reads a size such as 10GiB; undefined when it is not one. */
export function parseSize(text: string): number | undefined {
  const m = /^([0-9.]+)\s*(TiB|GiB|MiB|KiB|TB|GB|MB|kB|B)?$/.exec(text.trim());
  if (!m || Number.isNaN(Number(m[1]))) return undefined;
  const factor: Record<string, number> = {
    TiB: 2 ** 40,
    GiB: 2 ** 30,
    MiB: 2 ** 20,
    KiB: 2 ** 10,
    TB: 1e12,
    GB: 1e9,
    MB: 1e6,
    kB: 1e3,
    B: 1,
  };
  return Math.round(Number(m[1]) * (factor[m[2] ?? "B"] ?? 1));
}

/** Quotes a text for a shell. */
export const quote = (text: string) => (/^[A-Za-z0-9_./:@#=,-]+$/.test(text) ? text : `'${text.replaceAll("'", `'\\''`)}'`);

/** A number of things: 1 message, 12,000 messages. */
export function many(n: number, thing: string): string {
  return `${count(n)} ${thing}${n === 1 ? "" : "s"}`;
}

/** A value for machines, such as a state, as people read it. */
export const words = (value: string) => value.replaceAll("-", " ");
