/** The path of a field of the body as a condition writes it. */
export function fieldPath(path: (string | number)[]): string {
  return path.reduce<string>((text, part) => {
    if (typeof part === "number") return `${text}[${part}]`;
    return /^[A-Za-z_][A-Za-z0-9_]*$/.test(part) ? `${text}.${part}` : `${text}[${JSON.stringify(part)}]`;
  }, "body");
}

/** A condition with one more part that must hold too. */
export function also(condition: string, part: string): string {
  const trimmed = condition.trim();
  if (!trimmed) return part;
  if (trimmed.split(" && ").includes(part)) return trimmed;
  return `${/\|\||\?/.test(trimmed) && !/^\(.*\)$/.test(trimmed) ? `(${trimmed})` : trimmed} && ${part}`;
}

/** That a field has a value. */
export const equals = (path: string, value: unknown) => `${path} == ${JSON.stringify(value)}`;

/** The paths of the fields that bodies have, for completion. */
export function fieldsOf(bodies: unknown[]): string[] {
  const found = new Set<string>();
  const walk = (value: unknown, path: (string | number)[]) => {
    if (value === null || typeof value !== "object" || Array.isArray(value) || path.length > 4) return;
    for (const [name, inner] of Object.entries(value)) {
      found.add(fieldPath([...path, name]));
      walk(inner, [...path, name]);
    }
  };
  bodies.slice(0, 50).forEach((b) => walk(b, []));
  return [...found].sort();
}
