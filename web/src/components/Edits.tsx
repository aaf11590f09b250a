import type { ActionSample } from "../api/client";

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

/** What an edit makes of a message, line by line. */
function Difference({ sample }: { sample: ActionSample }) {
  const lines = (key: string, headers: Record<string, string>, body: unknown) =>
    [
      key && `key: ${key}`,
      ...Object.entries(headers).map(([n, v]) => `header ${n}: ${v}`),
      ...JSON.stringify(body, null, 2).split("\n"),
    ].filter(Boolean) as string[];
  const before = lines(sample.key, sample.headers, sample.body);
  if (!sample.after) return <pre className="address overflow-x-auto">{JSON.stringify(sample.body)}</pre>;
  const after = lines(sample.after.key, sample.after.headers, sample.after.body);
  const gone = before.filter((l) => !after.includes(l));
  const come = after.filter((l) => !before.includes(l));
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
      {gone.length + come.length === 0 && <div className="text-soft">no difference</div>}
    </pre>
  );
}

/** Messages that something is about, and what edits make of them. */
export function Samples({ samples }: { samples: ActionSample[] }) {
  return samples.map((s) => (
    <div key={s.address} className="border-l-2 border-hair pl-3 text-[length:var(--text-small)]">
      <p className="address text-soft">{s.address}</p>
      <Difference sample={s} />
    </div>
  ));
}
