import { count } from "../lib/format";

export type Pennant = { name: string; at: number; from?: number; state: string; title: string };

const colours: Record<string, string> = {
  "keeping-up": "text-order",
  "catching-up": "text-working",
  "not-getting-nearer": "text-working",
  stopped: "text-attention",
  "falling-behind": "text-attention",
  "will-lose-data": "text-alarm",
  "has-lost": "text-alarm",
};

/** One partition as a ruler from the oldest kept offset to the end, with a
 *  pennant for each group, each on a line of its own. A pennant that moves
 *  has a line from where it was. */
export function Pennants({
  first,
  end,
  pennants,
  ground = "bg-paper",
}: {
  first: number;
  end: number;
  pennants: Pennant[];
  ground?: string; // what names stand on
}) {
  const width = Math.max(end - first, 1);
  const x = (offset: number) => Math.min(Math.max(((offset - first) / width) * 100, 0), 100);
  const lane = 18;
  return (
    <div className="relative mr-1" style={{ height: pennants.length * lane + 8 }}>
      <div className="absolute inset-x-0 bottom-0 h-1.5 bg-[var(--sea-soft)]" />
      <div className="absolute right-0 bottom-[-2px] h-2.5 w-[3px] bg-[var(--sea)]" aria-hidden="true" />
      {pennants.map((p, i) => {
        const left = x(p.at);
        const flip = left > 60;
        return (
          <div key={p.name} className={colours[p.state] ?? "text-stopped"}>
            {p.from !== undefined && p.from !== p.at && (
              <div
                className="absolute border-t-2 border-dashed border-current"
                style={{ left: `${Math.min(x(p.from), left)}%`, width: `${Math.abs(x(p.from) - left)}%`, top: i * lane + 6 }}
              />
            )}
            {p.from !== undefined && (
              <div
                className="absolute size-2 -translate-x-1/2 rounded-full border-2 border-current bg-paper"
                style={{ left: `${x(p.from)}%`, top: i * lane + 3 }}
                title={`now at ${count(p.from)}`}
              />
            )}
            <div
              className="absolute w-[2px] -translate-x-1/2 bg-current"
              style={{ left: `${left}%`, top: i * lane, bottom: 0 }}
            />
            <svg
              className="absolute"
              width="10"
              height="10"
              viewBox="0 0 10 10"
              aria-hidden="true"
              style={{ left: flip ? `calc(${left}% - 11px)` : `calc(${left}% + 1px)`, top: i * lane }}
            >
              <path d={flip ? "M10 0 0 4.500 10 9z" : "M0 0 10 4.500 0 9z"} fill="currentColor" />
            </svg>
            <span
              className={`absolute text-[0.75rem] leading-none whitespace-nowrap ${ground}`}
              title={p.title}
              style={
                flip ? { right: `calc(${100 - left}% + 14px)`, top: i * lane } : { left: `calc(${left}% + 14px)`, top: i * lane }
              }
            >
              {p.name}
            </span>
          </div>
        );
      })}
    </div>
  );
}
