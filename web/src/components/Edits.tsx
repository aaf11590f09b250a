import type { ActionSample } from "../api/client";
import { Hidden } from "./Part";

/** Where edits of messages are typed, one a line. */
export function EditsField({
  value,
  onChange,
  wrong,
  label,
  focus = false,
}: {
  value: string;
  onChange: (text: string) => void;
  wrong: string;
  label: string;
  focus?: boolean;
}) {
  return (
    <div>
      <label className="block">
        <span className="label">{label}</span>
        <textarea
          className="field address min-h-16"
          value={value}
          onChange={(e) => onChange(e.target.value)}
          placeholder={'compute /celsius=(double(body.celsius.replace(" F", "")) - 32.0) / 1.8'}
          aria-invalid={wrong !== ""}
          autoFocus={focus}
        />
        <span className="text-[length:var(--text-small)] text-soft">
          <code>set /field=value</code>, <code>compute /field=expression</code>, <code>remove /field</code>,{" "}
          <code>rename /old=/new</code>; <code>header.NAME</code> and <code>key</code> too
        </span>
      </label>
      {wrong && <p className="text-alarm">■ {wrong}</p>}
    </div>
  );
}

interface Editable {
  key?: string;
  headers?: Record<string, string>;
  body?: unknown;
  masked?: string[];
}

/** What edits make of a message, line by line; without an after the message alone. */
export function Changes({ before, after }: { before: Editable; after?: Editable | null }) {
  const lines = ({ key, headers, body }: Editable) =>
    [
      key && `key: ${key}`,
      ...Object.entries(headers ?? {}).map(([n, v]) => `header ${n}: ${v}`),
      ...JSON.stringify(body, null, 2).split("\n"),
    ].filter(Boolean) as string[];
  if (before.masked?.includes("body")) return <Hidden />;
  if (!after) return <pre className="address overflow-x-auto">{JSON.stringify(before.body)}</pre>;
  const was = lines(before);
  const is = lines(after);
  const gone = was.filter((l) => !is.includes(l));
  const come = is.filter((l) => !was.includes(l));
  if (gone.length + come.length === 0) return <pre className="address overflow-x-auto">{JSON.stringify(before.body)}</pre>;
  return (
    <pre className="address overflow-x-auto">
      {gone.map((l) => (
        <div key={`-${l}`} className="text-alarm">
          − {l}
        </div>
      ))}
      {come.map((l) => (
        <div key={`+${l}`} className="text-order">
          + {l}
        </div>
      ))}
    </pre>
  );
}

/** Messages that something is about, and what edits make of them. */
export function Samples({ samples }: { samples: ActionSample[] }) {
  return samples.map((s) => (
    <div key={s.address} className="border-l-2 border-hair pl-3 text-[length:var(--text-small)]">
      <p className="address text-soft">{s.address}</p>
      <Changes before={s} after={s.after} />
    </div>
  ));
}
