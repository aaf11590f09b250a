export type Scale = { top: number; beyond: number };

/**
 * The top of a chart's scale. A few values far above all others, which would
 * flatten the rest, go beyond it: then beyond is the highest of them, and is
 * to be said. Few are at most a twentieth of the values, far is four times the
 * highest of the others.
 */
export function scaleOf(values: (number | null)[]): Scale {
  const sorted = values.filter((v): v is number => v !== null && v > 0).sort((a, b) => a - b);
  const max = sorted.at(-1) ?? 0;
  const few = Math.floor(sorted.length / 20);
  const usual = sorted.at(-1 - few) ?? 0;
  return few > 0 && max > 4 * usual ? { top: 1.25 * usual, beyond: max } : { top: max, beyond: 0 };
}
