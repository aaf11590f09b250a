/** A figure with its name and unit. */
export function Figure({ name, value, unit }: { name: string; value: string; unit?: string }) {
  return (
    <div className="min-w-28">
      <dt className="text-[length:var(--text-small)] text-soft">{name}</dt>
      <dd className="text-lg font-semibold tabular-nums">
        {value} {unit && <span className="text-[length:var(--text-small)] font-normal text-soft">{unit}</span>}
      </dd>
    </div>
  );
}

/** Figures beside each other: names, values and units. */
export function Figures({ all }: { all: [name: string, value: string, unit: string][] }) {
  return (
    <dl className="mb-3 flex flex-wrap gap-x-6 gap-y-1">
      {all.map(([name, value, unit]) => (
        <Figure key={name} name={name} value={value} unit={unit} />
      ))}
    </dl>
  );
}
