import type { Edit } from "../api/client";

/** Reads an edit as it is typed: set AT=VALUE, compute AT=EXPRESSION, remove AT, rename AT=TO. */
export function parseEdit(text: string): Edit {
  const [, op, rest] = /^\s*(\S+)\s*(.*)$/.exec(text) ?? [];
  if (op === "remove" && rest) return { op, at: rest.trim() };
  if (op !== "set" && op !== "compute" && op !== "rename")
    throw new Error(`“${text.trim()}” begins with none of set, compute, remove, rename`);
  const cut = rest!.indexOf("=");
  if (cut < 1) throw new Error(`“${text.trim()}” has no =`);
  const at = rest!.slice(0, cut).trim();
  const value = rest!.slice(cut + 1).trim();
  if (op === "rename") return { op, at, to: value };
  if (op === "compute") return { op, at, expression: value };
  try {
    return { op, at, value: JSON.parse(value) as unknown };
  } catch {
    return { op, at, value };
  }
}

/** Writes an edit as it is typed. */
export function editText(e: Edit): string {
  if (e.op === "rename") return `rename ${e.at}=${e.to}`;
  if (e.op === "remove") return `remove ${e.at}`;
  if (e.op === "compute") return `compute ${e.at}=${e.expression}`;
  return `set ${e.at}=${JSON.stringify(e.value)}`;
}

/** Reads edits, one a line; wrong says what is the matter with the first bad one. */
export function parseEdits(text: string): { list: Edit[]; wrong: string } {
  try {
    return {
      list: text
        .split("\n")
        .filter((l) => l.trim())
        .map(parseEdit),
      wrong: "",
    };
  } catch (e) {
    return { list: [], wrong: (e as Error).message };
  }
}
