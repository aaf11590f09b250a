import { words } from "../lib/format";

// States by shape, word and colour, from this one place.
const marks: Record<string, { shape: React.ReactNode; colour: string }> = {
  ready: { shape: <circle cx="6" cy="6" r="4.500" fill="currentColor" />, colour: "text-order" },
  connected: { shape: <circle cx="6" cy="6" r="4.500" fill="currentColor" />, colour: "text-order" },
  starting: {
    shape: (
      <>
        <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="1.500" />
        <path d="M6 2a4 4 0 0 1 0 8z" fill="currentColor" />
      </>
    ),
    colour: "text-working",
  },
  attention: { shape: <path d="M6 1.500 11 10.500H1z" fill="currentColor" />, colour: "text-attention" },
  "disk-full": { shape: <rect x="1.500" y="1.500" width="9" height="9" fill="currentColor" />, colour: "text-alarm" },
  failed: { shape: <rect x="1.500" y="1.500" width="9" height="9" fill="currentColor" />, colour: "text-alarm" },
  paused: { shape: <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="2" />, colour: "text-stopped" },
};
for (const [state, as] of [
  ["replicas-missing", "attention"],
  ["no-leader", "failed"],
  ["end-lost", "failed"],
  ["no-majority", "failed"],
  ["away", "failed"],
  ["keeping-up", "ready"],
  ["catching-up", "starting"],
  ["not-getting-nearer", "starting"],
  ["no-members", "paused"],
  ["stopped", "attention"],
  ["waits", "attention"],
  ["halted", "attention"],
  ["falling-behind", "attention"],
  ["will-lose-data", "failed"],
  ["has-lost", "failed"],
  ["waiting", "ready"],
  ["leased", "starting"],
  ["delayed", "paused"],
  ["dead", "failed"],
  ["discarded", "paused"],
  ["done", "ready"],
  ["running", "starting"],
  ["cancelled", "paused"],
  ["well", "ready"],
  ["failing", "failed"],
  ["locked", "failed"],
  ["picking-up", "starting"],
  ["again", "attention"],
  ["refused", "failed"],
  ["stop", "failed"],
  ["calm", "ready"],
  ["warn", "attention"],
  ["alarm", "failed"],
  ["ended", "ready"],
  ["idle", "paused"],
  ["cancelling", "starting"],
] as const)
  marks[state] = marks[as]!;
const unknown = {
  shape: <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="1.500" strokeDasharray="2 1.600" />,
  colour: "text-stopped",
};

/** The shape and the colour of a state, for drawings. */
export const markOf = (state: string) => marks[state] ?? unknown;

/** wrap lets long words go over several lines, where there is little room. */
export function Mark({ state, word = words(state), wrap = false }: { state: string; word?: string; wrap?: boolean }) {
  const m = marks[state] ?? unknown;
  return (
    <span className={`inline-flex items-center gap-1.5 ${wrap ? "" : "whitespace-nowrap"} ${m.colour}`}>
      <svg width="12" height="12" viewBox="0 0 12 12" aria-hidden="true" className="shrink-0">
        {m.shape}
      </svg>
      {word}
    </span>
  );
}
