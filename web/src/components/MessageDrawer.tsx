import { Link } from "react-router";
import { Download } from "lucide-react";
import { Tabs } from "radix-ui";
import { channelPath, type Message } from "../api/client";
import { equals, fieldPath } from "../lib/condition";
import { clock, count, quote } from "../lib/format";
import { Copy } from "./Copy";
import { Drawer } from "./Panel";
import { Masked } from "./Part";

/** The bytes of a message's body. */
export function bodyBytes(m: Message): Uint8Array {
  if (m.bodyBase64) return Uint8Array.from(atob(m.bodyBase64), (c) => c.charCodeAt(0));
  return new TextEncoder().encode(bodyText(m));
}

/** The body as text: JSON on one line. */
export function bodyText(m: Message): string {
  if (m.masked?.includes("body")) return "hidden";
  if (m.bodyBase64) return `(${count(m.size)} bytes that are not text)`;
  if (m.body === undefined) return "";
  if (m.shortened) return `${m.body as string}…`; // the beginning of JSON is no JSON
  return typeof m.body === "string" && !m.contentType.includes("json") ? m.body : JSON.stringify(m.body);
}

export function hex(bytes: Uint8Array): string {
  const rows: string[] = [];
  for (let i = 0; i < Math.min(bytes.length, 16 * 512); i += 16) {
    const part = bytes.slice(i, i + 16);
    const codes = [...part].map((b) => b.toString(16).padStart(2, "0")).join(" ");
    const text = [...part].map((b) => (b >= 32 && b < 127 ? String.fromCharCode(b) : "·")).join("");
    rows.push(`${i.toString(16).padStart(6, "0")}  ${codes.padEnd(47)}  ${text}`);
  }
  if (bytes.length > 16 * 512) rows.push(`… ${count(bytes.length - 16 * 512)} more bytes`);
  return rows.join("\n");
}

/** JSON whose values can be clicked to look for others like them. */
function Json({
  value,
  path,
  depth,
  onField,
}: {
  value: unknown;
  path: (string | number)[];
  depth: number;
  onField: (part: string) => void;
}) {
  if (value !== null && typeof value === "object") {
    const entries = Array.isArray(value) ? value.map((v, i) => [i, v] as const) : Object.entries(value);
    const [open, close] = Array.isArray(value) ? "[]" : "{}";
    if (entries.length === 0) return <>{`${open}${close}`}</>;
    return (
      <>
        {open}
        {entries.slice(0, 500).map(([name, inner], i) => (
          <div key={name} style={{ paddingLeft: "1.2rem" }}>
            {typeof name === "string" && <span className="text-soft">{JSON.stringify(name)}: </span>}
            <Json value={inner} path={[...path, name]} depth={depth + 1} onField={onField} />
            {i < entries.length - 1 && ","}
          </div>
        ))}
        {entries.length > 500 && <div>… {count(entries.length - 500)} more</div>}
        {close}
      </>
    );
  }
  if (path.length === 0) return <>{JSON.stringify(value)}</>;
  const part = equals(fieldPath(path), value);
  return (
    <button
      type="button"
      className="rounded px-0.5 text-left break-all text-sea hover:bg-seasoft"
      title={`Add to the condition: ${part}`}
      onClick={() => onField(part)}
    >
      {JSON.stringify(value)}
    </button>
  );
}

/** One message in full. */
export function MessageDrawer({
  message: m,
  onClose,
  onField,
}: {
  message: Message;
  onClose: () => void;
  onField: (part: string) => void;
}) {
  const channel = m.address.split("#")[0]!;
  const structured = m.body !== undefined && !m.shortened && !(typeof m.body === "string" && !m.contentType.includes("json"));
  const facts: [string, React.ReactNode][] = [
    ["Stored", clock(m.time)],
    ["Publisher's time", m.publisherTime && clock(m.publisherTime)],
    [
      "Key",
      m.key && (
        <button
          type="button"
          className="address text-sea hover:underline"
          title="Add to the condition"
          onClick={() => onField(equals("key", m.key))}
        >
          {m.key}
        </button>
      ),
    ],
    ["Id", <span className="address break-all">{m.id}</span>],
    ["Lies in", `partition ${m.partition}, offset ${count(m.offset)}`],
    ["Content type", m.contentType],
    ["Size", `${count(m.size)} bytes`],
  ];
  return (
    <Drawer title={m.address} onClose={onClose}>
      <div className="mb-4 flex flex-wrap gap-2">
        <Copy text={m.address} what="address">
          Address
        </Copy>
        <Copy text={`ferry show ${quote(m.address)}`} what="ferry command">
          Command
        </Copy>
        <Link className="button no-underline" to={`/trace/${channel}/${m.partition}:${m.offset}`}>
          Trace
        </Link>
        <a
          className="button no-underline"
          href={`/api/v1${channelPath(channel)}/partitions/${m.partition}/messages/${m.offset}?format=raw`}
          download
        >
          <Download size={14} aria-hidden /> Body
        </a>
      </div>
      <dl className="mb-4 grid grid-cols-[8.5rem_1fr] gap-y-0.5">
        {facts.map(([name, value]) =>
          value ? (
            <div key={name} className="contents">
              <dt className="text-soft">{name}</dt>
              <dd className="min-w-0">{value}</dd>
            </div>
          ) : null,
        )}
      </dl>
      {Object.keys(m.headers).length > 0 && (
        <section className="mb-4">
          <h2 className="mb-1">Headers</h2>
          <dl className="grid grid-cols-[8.5rem_1fr] gap-y-0.5">
            {Object.entries(m.headers).map(([name, value]) => (
              <div key={name} className="contents">
                <dt className="address truncate text-soft">{name}</dt>
                <dd className="min-w-0">
                  <button
                    type="button"
                    className="address text-left break-all text-sea hover:underline"
                    title="Add to the condition"
                    onClick={() => onField(equals(`headers[${JSON.stringify(name)}]`, value))}
                  >
                    {value}
                  </button>
                </dd>
              </div>
            ))}
          </dl>
        </section>
      )}
      <Masked fields={m.masked} />
      {m.shortened && (
        <p className="mb-2 text-soft">
          Of this body only the beginning is shown; the button Body gets all {count(m.size)} bytes.
        </p>
      )}
      <Tabs.Root defaultValue={structured ? "json" : m.bodyBase64 ? "hex" : "text"}>
        <Tabs.List className="mb-2 flex gap-4 border-b border-hair" aria-label="Forms of the body">
          {(["json", "text", "hex"] as const).map((t) => (
            <Tabs.Trigger
              key={t}
              value={t}
              disabled={t === "json" && !structured}
              className="-mb-px border-b-2 border-transparent py-1 text-soft data-[disabled]:opacity-60 data-[state=active]:border-sea data-[state=active]:font-semibold data-[state=active]:text-ink"
            >
              {{ json: "Body as JSON", text: "Text", hex: "Bytes" }[t]}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        <Tabs.Content value="json" className="address leading-6 break-words">
          <Json value={m.body} path={[]} depth={0} onField={onField} />
          <p className="mt-3 font-sans text-[length:var(--text-small)] text-soft">A click on a value looks for others like it.</p>
        </Tabs.Content>
        <Tabs.Content value="text">
          <pre className="address break-all whitespace-pre-wrap">{bodyText(m)}</pre>
        </Tabs.Content>
        <Tabs.Content value="hex">
          <pre className="address overflow-x-auto text-[0.8rem]">{hex(bodyBytes(m))}</pre>
        </Tabs.Content>
      </Tabs.Root>
    </Drawer>
  );
}
