// Settings as the fields of a form have them: text of each, by the tables that
// the service gives.
import type { Setting, Settings } from "../api/client";
import { parseSize, quote } from "./format";

export type Fields = Record<string, string>;

const exactSize = (n: number) => {
  for (const [unit, factor] of [
    ["GiB", 2 ** 30],
    ["MiB", 2 ** 20],
    ["KiB", 2 ** 10],
  ] as const)
    if (n % factor === 0) return `${n / factor}${unit}`;
  return `${n}B`;
};

/** The text of a value. */
export function textOf(row: Setting, value: unknown): string {
  if (value === undefined || value === null) return "";
  switch (row.form) {
    case "size":
      return value === 0 ? "" : exactSize(value as number);
    case "names":
    case "verbs":
    case "fields":
    case "addresses":
    case "mailboxes":
      return (value as string[]).join(", ");
    case "labels":
    case "headers":
    case "columns":
    case "keeps":
      return Object.entries(value as Record<string, string>)
        .map(([name, v]) => `${name}=${v}`)
        .join(", ");
  }
  return String(value);
}

const pairs = (text: string) =>
  Object.fromEntries(
    text
      .split(",")
      .map((one) => one.trim())
      .filter(Boolean)
      .map((one) => [one.split("=", 1)[0]!.trim(), one.slice(one.indexOf("=") + 1).trim()]),
  );

/** The value that a text stands for; what is no value goes as it is, and the service says what is wrong. */
function valueOf(row: Setting, text: string, before: string): unknown {
  switch (row.form) {
    case "number":
      return Number.isNaN(Number(text)) || text === "" ? text : Number(text);
    case "size":
      return parseSize(text) ?? text;
    case "switch":
      return text === "true";
    case "names":
    case "verbs":
    case "fields":
    case "addresses":
    case "mailboxes":
      return text.split(/[ ,]+/).filter(Boolean);
    case "labels":
    case "headers":
    case "columns":
    case "keeps": {
      // A label that is no longer there is taken away by an empty value.
      const now = pairs(text);
      return { ...Object.fromEntries(Object.keys(pairs(before)).map((name) => [name, ""])), ...now };
    }
  }
  return text;
}

/** What of the fields differs: as JSON, and as flags of the client. */
export function changesOf(rows: Setting[], initial: Fields, fields: Fields): { settings: Settings; flags: string } {
  const settings: Record<string, unknown> = {};
  const flags: string[] = [];
  for (const row of rows) {
    const [before, now] = [initial[row.name] ?? "", fields[row.name] ?? ""];
    if (before === now) continue;
    const value = valueOf(row, now, before);
    settings[row.name] = value;
    if (row.form === "switch") flags.push(now === "true" ? `-${row.flag}` : `-${row.flag}=false`);
    else if (["names", "verbs", "fields", "addresses"].includes(row.form))
      flags.push(`-${row.flag} ${(value as string[]).join(",") || "none"}`);
    else if (["labels", "headers", "columns"].includes(row.form))
      flags.push(...Object.entries(value as Record<string, string>).map(([name, v]) => `-${row.flag} ${quote(`${name}=${v}`)}`));
    else flags.push(`-${row.flag} ${quote(now.replaceAll(/(?<=\d) (?=[kKMGT]?i?B$)/g, ""))}`);
  }
  return { settings: settings as Settings, flags: flags.join(" ") };
}

/** Whether things of the kind have the setting. */
export const isOf = (row: Setting, kind: string) => row.kinds.length === 0 || row.kinds.includes(kind);
