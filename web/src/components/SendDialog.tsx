import { useState } from "react";
import { Link } from "react-router";
import { channelPath, explain, send, type Published, type Channel } from "../api/client";
import { pageOf } from "../lib/address";
import { quote } from "../lib/format";
import { Command } from "./Copy";
import { Dialog } from "./Panel";
import { Failure } from "./Failure";

/** Reads lines of name=value. */
function parseHeaders(text: string): Record<string, string> | undefined {
  const headers: Record<string, string> = {};
  for (const line of text.split("\n").filter((l) => l.trim())) {
    const at = line.indexOf("=");
    if (at < 1) return undefined;
    headers[line.slice(0, at).trim()] = line.slice(at + 1);
  }
  return headers;
}

export function SendDialog({ topic, onClose }: { topic: Channel; onClose: () => void }) {
  const [body, setBody] = useState('{"test": true}');
  const [key, setKey] = useState("");
  const [headerText, setHeaderText] = useState("");
  const [partition, setPartition] = useState("");
  const [busy, setBusy] = useState(false);
  const [failed, setFailed] = useState("");
  const [sent, setSent] = useState<string[]>([]);
  const headers = parseHeaders(headerText);
  let json: unknown;
  try {
    json = JSON.parse(body);
  } catch {
    json = undefined;
  }
  const isJSON = json !== undefined;
  const command = [
    `ferry send ${topic.address}`,
    key && `-key ${quote(key)}`,
    partition && `-partition ${partition}`,
    ...Object.entries(headers ?? {}).map(([n, v]) => `-header ${quote(`${n}=${v}`)}`),
    `-body ${quote(body)}`,
  ]
    .filter(Boolean)
    .join(" ");

  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      const contentType = isJSON ? "application/json" : "text/plain";
      // The body goes as the bytes that were typed: as base64 they are kept so.
      const bytes = new TextEncoder().encode(body);
      const message = {
        key: key || undefined,
        headers,
        contentType,
        bodyBase64: bytes.length > 0 ? btoa(String.fromCharCode(...bytes)) : undefined,
      };
      const response = await send(
        "POST",
        `${channelPath(topic.address)}/messages${partition && `?partition=${partition}`}`,
        JSON.stringify(message),
        {
          "Content-Type": "application/vnd.steady-ferry.message+json",
        },
      );
      const { receipts, dropped } = (await response.json()) as Published;
      const r = receipts[0]!;
      setSent((s) => [`${topic.address}#${r.partition}:${r.offset}${dropped ? " (kept before)" : ""}`, ...s].slice(0, 5));
    } catch (error) {
      setFailed(explain(error));
    } finally {
      setBusy(false);
    }
  };

  return (
    <Dialog open onClose={onClose} title="Send a message" about={`It is stored in ${topic.address} like any other.`}>
      <form onSubmit={submit} className="space-y-3">
        <label className="block">
          <span className="label">Body {isJSON ? "(JSON)" : "(text)"}</span>
          <textarea
            className="field address"
            rows={4}
            value={body}
            onChange={(e) => setBody(e.target.value)}
            spellCheck={false}
          />
        </label>
        <div className="grid gap-3 sm:grid-cols-2">
          <label className="block">
            <span className="label">Key</span>
            <input className="field address" value={key} onChange={(e) => setKey(e.target.value)} placeholder="none" />
          </label>
          <label className="block">
            <span className="label">Partition</span>
            <select className="field" value={partition} onChange={(e) => setPartition(e.target.value)}>
              <option value="">{key ? "by the key" : "the next in turn"}</option>
              {Array.from({ length: topic.partitionCount }, (_, i) => (
                <option key={i} value={i}>
                  {i}
                </option>
              ))}
            </select>
          </label>
        </div>
        <label className="block">
          <span className="label">Headers, name=value on a line</span>
          <textarea
            className="field address"
            rows={2}
            value={headerText}
            onChange={(e) => setHeaderText(e.target.value)}
            aria-invalid={!headers}
            spellCheck={false}
          />
        </label>
        <Command text={command} />
        <Failure text={failed} />
        <div className="flex items-center gap-3">
          <button className="button" data-main disabled={busy || !headers}>
            Send
          </button>
          <div role="status" className="min-w-0 text-soft">
            {sent[0] && (
              <>
                stored as{" "}
                <Link className="address" to={pageOf(sent[0].split(" ")[0]!)!} onClick={onClose}>
                  {sent[0]}
                </Link>
              </>
            )}
          </div>
        </div>
      </form>
    </Dialog>
  );
}
