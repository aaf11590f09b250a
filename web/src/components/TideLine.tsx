import { useRef, useState } from "react";
import { clock, many, span } from "../lib/format";

type Props = {
  oldest: number; // times in milliseconds
  end: number;
  messages: number;
  retain: number; // milliseconds
  from?: number;
  to?: number;
  onChoose: (from: number, to?: number) => void;
};

const steps = [
  1e3,
  5e3,
  15e3,
  60e3,
  300e3,
  900e3,
  3600e3,
  3 * 3600e3,
  6 * 3600e3,
  12 * 3600e3,
  86400e3,
  2 * 86400e3,
  7 * 86400e3,
  30 * 86400e3,
];

/** Round times for the scale, about seven of them. */
export function ticks(oldest: number, end: number): number[] {
  const width = Math.max(end - oldest, 1);
  const step = steps.find((s) => width / s <= 7) ?? steps.at(-1)!;
  const zone = new Date(end).getTimezoneOffset() * 60e3;
  const out: number[] = [];
  for (let t = Math.ceil((oldest - zone) / step) * step + zone; t <= end; t += step) out.push(t);
  return out;
}

/** The ruler from the oldest kept message to the end. A click reads from
 *  there on, a drag chooses a stretch. The stretch that retention takes next
 *  is shaded at the left edge. */
export function TideLine({ oldest, end, messages, retain, from, to, onChoose }: Props) {
  const ruler = useRef<SVGSVGElement>(null);
  const [drag, setDrag] = useState<{ start: number; now: number }>();
  const width = Math.max(end - oldest, 1000);
  const x = (t: number) => Math.min(Math.max(((t - oldest) / width) * 1000, 0), 1000);
  const timeAt = (e: React.PointerEvent) => {
    const box = ruler.current!.getBoundingClientRect();
    return oldest + Math.min(Math.max((e.clientX - box.left) / box.width, 0), 1) * width;
  };
  // What is older than this goes within the next twelfth of the retention.
  const goes = Math.min(end - retain + retain / 12, end);
  const chosen = drag
    ? [Math.min(drag.start, drag.now), Math.max(drag.start, drag.now)]
    : from !== undefined
      ? [from, to ?? end]
      : undefined;
  const finish = (e: React.PointerEvent) => {
    if (!drag) return;
    const at = timeAt(e);
    const [a, b] = [Math.min(drag.start, at), Math.max(drag.start, at)];
    setDrag(undefined);
    if ((b - a) / width < 0.01) onChoose(at);
    else onChoose(a, b);
  };
  return (
    <figure className="select-none">
      <figcaption className="flex justify-between text-[length:var(--text-small)] text-soft">
        <span>oldest kept, {span(end - oldest)} ago</span>
        <span className="hidden sm:inline">click to read from there, drag to choose a stretch</span>
        <span className="figures">{many(messages, "message")} to the end</span>
      </figcaption>
      <svg
        ref={ruler}
        viewBox="0 0 1000 26"
        preserveAspectRatio="none"
        className="h-7 w-full cursor-crosshair touch-none"
        role="img"
        aria-label={`Kept from ${clock(oldest, false)} to the end; ${many(messages, "message")}`}
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          setDrag({ start: timeAt(e), now: timeAt(e) });
        }}
        onPointerMove={(e) => drag && setDrag({ ...drag, now: timeAt(e) })}
        onPointerUp={finish}
        onPointerCancel={() => setDrag(undefined)}
      >
        <rect x="0" y="6" width="1000" height="14" fill="var(--sea-soft)" />
        {goes > oldest && (
          <rect x="0" y="6" width={x(goes)} height="14" fill="var(--attention)" opacity="0.35">
            <title>retention takes this next</title>
          </rect>
        )}
        {chosen && (
          <rect
            x={x(chosen[0]!)}
            y="3"
            width={Math.max(x(chosen[1]!) - x(chosen[0]!), 2)}
            height="20"
            fill="var(--sea)"
            opacity="0.45"
          />
        )}
        {ticks(oldest, end).map((t) => (
          <line key={t} x1={x(t)} x2={x(t)} y1="14" y2="20" stroke="var(--hair-strong)" vectorEffect="non-scaling-stroke" />
        ))}
        <line x1="0" x2="1000" y1="20" y2="20" stroke="var(--hair-strong)" vectorEffect="non-scaling-stroke" />
        <line x1="999" x2="999" y1="2" y2="24" stroke="var(--sea)" strokeWidth="3" vectorEffect="non-scaling-stroke" />
      </svg>
      <div className="relative h-4 text-[0.75rem] text-soft" aria-hidden="true">
        {ticks(oldest, end)
          .filter((t) => x(t) > 25 && x(t) < 965)
          .map((t, i, all) => (
            <span
              key={t}
              className={`absolute -translate-x-1/2 whitespace-nowrap ${i % 2 === 1 || all.length < 3 ? "" : "max-sm:hidden"}`}
              style={{ left: `${x(t) / 10}%` }}
            >
              {clock(t, false)}
            </span>
          ))}
      </div>
    </figure>
  );
}
