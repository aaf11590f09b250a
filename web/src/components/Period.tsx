import { CalendarDays } from "lucide-react";
import { Popover } from "radix-ui";
import { useEffect, useState } from "react";
import { days, periods, typed, type Period } from "../lib/position";

export function TextInput({
  value,
  placeholder,
  width,
  onDone,
}: {
  value: string;
  placeholder: string;
  width: string;
  onDone: (v: string) => void;
}) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  const done = () => text.trim() !== value && onDone(text.trim());
  return (
    <input
      className={`field address ${width}`}
      value={text}
      placeholder={placeholder}
      onChange={(e) => setText(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => e.key === "Enter" && done()}
      spellCheck={false}
    />
  );
}

/** From where to where: typed, or chosen of what is asked for most, the places
 *  of groups, and days of a calendar. */
export function PeriodInput({ from, to, groups, onDone }: Period & { groups: string[]; onDone: (p: Partial<Period>) => void }) {
  const [open, setOpen] = useState(false);
  const [first, setFirst] = useState("");
  const [last, setLast] = useState("");
  const choose = (p: Period) => {
    setOpen(false);
    onDone(p);
  };
  return (
    <>
      <label>
        <span className="label">From</span>
        <TextInput value={from} placeholder="first" width="w-52" onDone={(text) => onDone({ from: typed(text) })} />
      </label>
      <label>
        <span className="label">To</span>
        <TextInput value={to} placeholder="end" width="w-52" onDone={(text) => onDone({ to: typed(text) })} />
      </label>
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger className="button">
          <CalendarDays size={14} aria-hidden /> When
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            align="start"
            sideOffset={6}
            aria-label="When"
            className="z-40 w-72 rounded border border-strong bg-paper p-3 shadow-lg"
          >
            <ul className="space-y-1">
              {periods().map((p) => (
                <li key={p.name}>
                  <button type="button" className="button w-full justify-start" onClick={() => choose(p.period)}>
                    {p.name}
                  </button>
                </li>
              ))}
              {groups.map((g) => (
                <li key={g}>
                  <button
                    type="button"
                    className="button w-full justify-start"
                    onClick={() => choose({ from: `group:${g}`, to: "end" })}
                  >
                    What {g} has not read
                  </button>
                </li>
              ))}
            </ul>
            <form
              className="mt-3 grid grid-cols-2 gap-2 border-t border-hair pt-3"
              onSubmit={(e) => {
                e.preventDefault();
                if (first && last) choose(days(first, last));
              }}
            >
              <Day label="First day" value={first} max={last} onChange={setFirst} />
              <Day label="Last day" value={last} min={first} onChange={setLast} />
              <button className="button col-span-2 justify-center" data-main>
                These days
              </button>
            </form>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    </>
  );
}

function Day({
  label,
  onChange,
  ...more
}: { label: string; onChange: (day: string) => void } & Pick<React.ComponentProps<"input">, "value" | "min" | "max">) {
  return (
    <label>
      <span className="label">{label}</span>
      <input type="date" className="field" required {...more} onChange={(e) => onChange(e.target.value)} />
    </label>
  );
}
