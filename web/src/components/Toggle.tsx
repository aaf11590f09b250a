import { Switch } from "radix-ui";

/** Something that is on or off. */
export function Toggle({ on, label, onChange }: { on: boolean; label: string; onChange: (on: boolean) => void }) {
  return (
    <Switch.Root
      checked={on}
      onCheckedChange={onChange}
      aria-label={label}
      className="relative h-5 w-9 shrink-0 rounded-full border border-strong bg-sunk data-[state=checked]:bg-sea"
    >
      <Switch.Thumb className="block size-3.5 translate-x-0.5 rounded-full bg-ink transition-transform data-[state=checked]:translate-x-[1.15rem] data-[state=checked]:bg-onsea" />
    </Switch.Root>
  );
}
