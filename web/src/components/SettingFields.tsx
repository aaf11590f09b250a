import { useQuery } from "@tanstack/react-query";
import { get, type Setting } from "../api/client";
import type { Fields } from "../lib/settings";

type SettingTable =
  "channels" | "groups" | "spaces" | "endpoints" | "watches" | "chores" | "principals" | "roles" | "grants" | "masks";

/** What can be set, as the service tells it. */
export function useSettings() {
  return useQuery({
    queryKey: ["settings"],
    queryFn: () => get<Record<SettingTable, Setting[]>>("/settings"),
    staleTime: Infinity,
  });
}

/** A field for each row, with what is allowed beside its name. */
export function SettingFields({
  rows,
  fields,
  made,
  suggest = {},
  onChange,
}: {
  rows: Setting[];
  fields: Fields;
  made?: boolean; // what is fixed cannot be changed any more
  suggest?: Record<string, string[]>; // by the name of a row, what may be meant
  onChange: (fields: Fields) => void;
}) {
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      {rows.map((row) => {
        const value = fields[row.name] ?? "";
        const set = (text: string) => onChange({ ...fields, [row.name]: text });
        if (row.form === "switch")
          return (
            <label key={row.name} className="flex items-center gap-2 self-end pb-2">
              <input type="checkbox" checked={value === "true"} onChange={(e) => set(String(e.target.checked))} />
              {row.label}
            </label>
          );
        return (
          <label key={row.name} className="block">
            <span className="label">
              {row.label} {row.form !== "choice" && <span className="font-normal">({row.allowed})</span>}
            </span>
            {row.form === "choice" ? (
              <select className="field" value={value} disabled={made && row.fixed} onChange={(e) => set(e.target.value)}>
                {row.choices?.map((choice) => (
                  <option key={choice}>{choice}</option>
                ))}
              </select>
            ) : (
              <input
                className="field"
                inputMode={row.form === "number" ? "numeric" : undefined}
                list={suggest[row.name] && `suggest-${row.name}`}
                value={value}
                placeholder={row.default}
                onChange={(e) => set(e.target.value)}
              />
            )}
            {suggest[row.name] && (
              <datalist id={`suggest-${row.name}`}>
                {suggest[row.name]!.map((one) => (
                  <option key={one} value={one} />
                ))}
              </datalist>
            )}
          </label>
        );
      })}
    </div>
  );
}
