const name = "[a-z0-9][a-z0-9._-]*";
const whole = new RegExp(`^(${name})(?:/(${name})(?:@(${name}))?((?:/dead@${name})*)(?:(/dead)|#(\\d+)(?::(\\d+))?)?)?$`);

/** The parts of an address. The reader of dead letters of another one is READER/dead@NAME, that of a queue dead@NAME. */
export interface Address {
  space: string;
  channel?: string;
  reader?: string;
  dead: boolean;
  partition?: string;
  offset?: string;
}

/** Reads an address; undefined when it is none. */
export function parse(text: string): Address | undefined {
  const m = whole.exec(text.trim());
  if (!m) return undefined;
  const [, space, channel, group, nested, dead, partition, offset] = m;
  const reader = ((group ?? "") + (nested ?? "")).replace(/^\//, "") || undefined;
  return { space: space!, channel, reader, dead: Boolean(dead), partition, offset };
}

/** The address of a reader of a channel. */
export const readerAddress = (channel: string, reader: string) => channel + (readsDead(reader) ? "/" : "@") + reader;

/** Whether a reader reads the dead letters of a queue. */
export const readsDead = (reader: string) => reader.startsWith("dead@");

/** Names as one part of a path: of what they have only a slash would end it. */
const inPath = (names: string) => names.replaceAll("/", "%2F");

/** The channel in the address of a reader. */
export const channelOf = (address: string) => address.split("/", 2).join("/").replace(/@.*$/, "");

/** The page of a group or a route. */
export function readerPage(address: string): string {
  const a = parse(address);
  return a?.reader ? `/groups/${a.space}/${a.channel}/${inPath(a.reader)}` : "/groups";
}

/** What follows the space in the address of a queue, or of the reader whose dead letters are one: part of a path. */
const queuePart = (a: Address) => inPath(a.reader ? readerAddress(a.channel!, a.reader) : a.channel!);

/** Where things are shown that have addresses like those of channels, by their kinds. */
const beside: Record<string, string> = { endpoint: "endpoints", watch: "watches", chore: "timetable" };

/** The path of the console's page for an address, of a thing of a kind if that is known; or undefined. */
export function pageOf(text: string, kind = ""): string | undefined {
  const a = parse(text);
  if (!a) return undefined;
  if (beside[kind]) return `/${beside[kind]}/${text}`;
  const { space, channel, partition, offset } = a;
  if (!channel) return `/channels?space=${space}`;
  if (a.dead) return `/dead/${space}/${queuePart(a)}`;
  if (a.reader) return offset ? `/trace/${space}/${queuePart(a)}/${partition}:${offset}` : readerPage(text);
  const page = `/channels/${space}/${channel}`;
  if (offset) return `${page}?partition=${partition}&from=offset:${offset}&open=${partition}:${offset}`;
  return partition ? `${page}?partition=${partition}` : page;
}
