import { BreakGlass } from "./BreakGlass";
import { Link } from "react-router";
import { type DeadCause, type QueueMessage } from "../api/client";
import { ago, clock, many } from "../lib/format";
import { type Doing } from "./ActionDialog";
import { Copy } from "./Copy";
import { useVerbs } from "../lib/rights";
import { Mark } from "./Mark";
import { bodyText } from "./MessageDrawer";
import { Hidden, Masked } from "./Part";
import { Story } from "./Story";

/** How many came over time, as bars. */
export function Bars({ cause }: { cause: DeadCause }) {
  const top = Math.max(...cause.bars, 1);
  const width = 160;
  const step = width / cause.bars.length;
  return (
    <svg
      width={width}
      height="26"
      viewBox={`0 0 ${width} 26`}
      role="img"
      aria-label={`${many(cause.count, "dead letter")}, the last ${ago(cause.lastSeen)} ago`}
    >
      <line x1="0" x2={width} y1="25.5" y2="25.5" stroke="var(--hair-strong)" />
      {cause.bars.map((n, i) => (
        <rect
          key={i}
          x={i * step + 0.5}
          width={step - 1}
          y={25 - (n / top) * 24}
          height={(n / top) * 24}
          fill="var(--alarm)"
          opacity="0.75"
        />
      ))}
    </svg>
  );
}

/** A body with the place marked that the failure names. */
function Body({ message }: { message: QueueMessage }) {
  if (message.masked?.includes("body"))
    return (
      <p className="rounded bg-sunk p-3">
        <Hidden /> <span className="text-soft">({many(message.size, "byte")})</span>{" "}
        <BreakGlass at={message.address.replace(/#.*$/, "")} />
      </p>
    );
  if (message.gone) return <p className="text-soft">Its content is no longer kept.</p>;
  if (typeof message.body !== "object" || message.body === null) {
    return <pre className="address overflow-x-auto rounded bg-sunk p-3">{bodyText(message)}</pre>;
  }
  const field = message.field?.split("/")[1];
  const lines = JSON.stringify(message.body, null, 2).split("\n");
  let inside = false;
  return (
    <pre className="address overflow-x-auto rounded bg-sunk p-3">
      {lines.map((line, i) => {
        const top = /^ {2}"((?:[^"\\]|\\.)*)":/.exec(line);
        if (top) inside = top[1] === field;
        if (line === "}") inside = false;
        return inside ? (
          <mark key={i} className="block border-l-3 border-alarm bg-transparent pl-2 font-semibold text-alarm">
            {line} <span aria-hidden="true">◂</span>
            {top && <span className="sr-only">the failure names this field</span>}
          </mark>
        ) : (
          <div key={i} className="pl-2">
            {line}
          </div>
        );
      })}
      {field && !lines.some((l) => l.startsWith(`  "${field}":`)) && (
        <div className="pl-2 text-alarm">■ {message.field} is missing</div>
      )}
    </pre>
  );
}

/** The field that the failures of these messages name, if it is one. */
export function fieldOf(items: QueueMessage[]): string {
  const field = items[0]?.field ?? "";
  return items.every((m) => (m.field ?? "") === field) ? field : "";
}

/** What is at the place that the failure names, or else the key or the body. */
export function failing(m: QueueMessage, field: string): string {
  if (!field || m.masked?.includes("body")) return m.key || bodyText(m);
  let at: unknown = m.body;
  for (const part of field.split("/").slice(1)) at = (at as Record<string, unknown> | undefined)?.[part];
  return at === undefined ? "missing" : JSON.stringify(at);
}

/** One message in full. */
export function DeadLetter({ message, act }: { message: QueueMessage; act: (d: Doing) => void }) {
  const page = message.address.replace(/#.*$/, "");
  return (
    <section aria-label="The message" className="space-y-3">
      <div className="flex flex-wrap items-center gap-x-3">
        <h2 className="address flex items-center gap-1">
          {message.address} <Copy text={message.address} what="address" />
        </h2>
        <Mark state={message.state} />
        {message.returns > 0 && <Mark state="attention" word={`came back ${message.returns} times already`} />}
        <Link to={`/trace/${page}/${message.partition}:${message.offset}`}>trace</Link>
      </div>
      <p className="text-alarm">
        <strong>{message.reason}</strong>
        {message.detail && (
          <span className="block text-[length:var(--text-small)] break-words whitespace-pre-wrap">{message.detail}</span>
        )}
      </p>
      <Body message={message} />
      <Masked fields={message.masked} />
      {message.original && (
        <details>
          <summary>before it was edited</summary>
          <pre className="address overflow-x-auto rounded bg-sunk p-3">{JSON.stringify(message.original.body, null, 2)}</pre>
        </details>
      )}
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 text-[length:var(--text-small)]">
        {(
          [
            ["key", message.key],
            ["id", message.id],
            ["read at", message.from],
            ["published", clock(message.time)],
            ...Object.entries(message.headers).map(([n, v]) => [`header ${n}`, v]),
          ] as [string, string | undefined][]
        )
          .filter(([, v]) => v)
          .map(([name, value]) => (
            <div key={name} className="contents">
              <dt className="text-soft">{name}</dt>
              <dd className="address break-all">{value}</dd>
            </div>
          ))}
      </dl>
      <Story steps={message.history.map((h) => ({ address: message.address, ...h }))} />
      {message.state === "dead" && <DeadActions at={page} act={act} small />}
    </section>
  );
}

const deadActions: { doing: Doing; name: string; verbs: string[] }[] = [
  { doing: "edit", name: "Mend and return", verbs: ["edit", "return", "see-content"] },
  { doing: "return", name: "Return", verbs: ["return"] },
  { doing: "send", name: "Send elsewhere", verbs: ["replay"] },
  { doing: "discard", name: "Discard", verbs: ["discard"] },
];

/** What may be done to dead letters; the first of them stands out. */
export function DeadActions({ at, act, small = false }: { at: string; act: (d: Doing) => void; small?: boolean }) {
  const may = useVerbs(at);
  const all = deadActions.filter((a) => a.verbs.every(may));
  return (
    <p className="flex flex-wrap gap-2">
      {all.map((a, i) => (
        <button
          key={a.doing}
          className="button"
          data-main={(i === 0 && !small && a.doing !== "discard") || undefined}
          data-alarm={a.doing === "discard" || undefined}
          onClick={() => act(a.doing)}
        >
          {a.name}
        </button>
      ))}
    </p>
  );
}
