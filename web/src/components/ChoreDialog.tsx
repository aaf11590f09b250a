import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { useNavigate } from "react-router";
import { call, explain, get, Problem, type Chore, type Setting } from "../api/client";
import { changesOf, type Fields } from "../lib/settings";
import { AddressFields, useSpaces } from "./AddressFields";
import { Command } from "./Copy";
import { Failure } from "./Failure";
import { Foreseen } from "./Foreseen";
import { Dialog, DialogFoot } from "./Panel";
import { SettingFields, useSettings } from "./SettingFields";

/** What chores can do, and which settings each act has, as the service tells it. */
export const useActs = () =>
  useQuery({ queryKey: ["chore-acts"], queryFn: () => get<{ acts: ChoreAct[] }>("/chore-acts"), staleTime: Infinity });

type ChoreAct = { name: string; needs: string[]; takes: string[] };

const whens = {
  at: { name: "At times", fields: ["at", "zone", "missed"], first: { at: "0 3 * * *" } },
  every: { name: "After a pause", fields: ["every", "missed"], first: { every: "6h" } },
  when: { name: "When an incident begins", fields: ["when", "rest", "daily"], first: {} },
} as const;
type When = keyof typeof whens;

/** The settings that a chore has that does something at some times, in their order in a form. */
export function choreRows(all: Setting[], acts: ChoreAct[] | undefined, act: string, when: When): Setting[] {
  const own = acts?.find((a) => a.name === act);
  const beside = [...(own?.needs ?? []), ...(own?.takes ?? [])].filter((name) => name !== "of");
  const shown = ["do", "of", ...whens[when].fields, ...beside, "tell", "tellOf", "description"];
  return shown.flatMap((name) => all.filter((row) => row.name === name));
}

/** How a chore says when it runs. */
export const whenOf = (settings: Record<string, unknown>): When => (settings.at ? "at" : settings.when ? "when" : "every");

/** Makes a chore, and says before when it would run and what it would do. */
export function ChoreDialog({ of, cause, onClose }: { of?: string; cause?: string; onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const table = useSettings();
  const acts = useActs();
  const known = [...useSpaces(), "nodes"];
  const [form, setForm] = useState({ space: of?.split("/")[0] ?? "", name: "", when: "at" as When, fields: {} as Fields });
  const [failed, setFailed] = useState("");
  const [busy, setBusy] = useState(false);
  const space = form.space || known[0]!;
  const all = table.data?.chores ?? [];
  const act = form.fields.do ?? "return";
  const rows = choreRows(all, acts.data?.acts, act, form.when);
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const defaults: Fields = Object.fromEntries(rows.map((row) => [row.name, row.default ?? ""]));
  const fields: Fields = {
    ...defaults,
    do: act,
    of: of ?? "",
    cause: cause ?? "",
    ...whens[form.when].first,
    ...(form.when === "at" && { zone }),
    ...form.fields,
  };
  const { settings, flags } = changesOf(rows, { ...defaults, do: "" }, fields);
  const address = `${space}/${form.name || "new"}`;
  const body = useDeferredValue(JSON.stringify({ address, ...settings }));
  const foreseen = useQuery({
    queryKey: ["chore-preview", body],
    queryFn: () => call<Chore>("POST", "/chores?preview=true", JSON.parse(body)),
    enabled: fields.of !== "" && table.isSuccess,
    placeholderData: (old) => old,
  });
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      await call<Chore>("POST", "/chores", { address, ...settings });
      await client.invalidateQueries({ queryKey: ["chores"] });
      onClose();
      navigate(`/timetable/${address}`);
    } catch (error) {
      setFailed(explain(error));
      setBusy(false);
    }
  };
  const wrong = foreseen.error instanceof Problem ? explain(foreseen.error) : "";
  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title="New chore"
      about="It is done by itself at its time, by one node, once, and recorded like what people do."
    >
      <form onSubmit={submit} className="space-y-3">
        <div className="grid gap-3 sm:grid-cols-3">
          <AddressFields spaces={known} space={space} name={form.name} onChange={(part) => setForm({ ...form, ...part })} />
          <label className="block">
            <span className="label">Runs</span>
            <select
              className="field"
              value={form.when}
              onChange={(e) => setForm({ ...form, when: e.target.value as When, fields: without(form.fields) })}
            >
              {Object.entries(whens).map(([key, one]) => (
                <option key={key} value={key}>
                  {one.name}
                </option>
              ))}
            </select>
          </label>
        </div>
        <SettingFields
          rows={rows}
          fields={fields}
          onChange={(more) => setForm({ ...form, fields: { ...form.fields, ...changed(fields, more) } })}
        />
        {!wrong && foreseen.data && <Foreseen chore={foreseen.data} />}
        <Failure text={failed || wrong} />
        <Command text={`ferry new chore ${space}/${form.name || "NAME"} ${flags}${foreseen.data?.careful ? " -yes" : ""}`} />
        <DialogFoot>
          <button className="button" data-main disabled={busy || !form.name || wrong !== "" || !foreseen.data}>
            Create the chore
          </button>
        </DialogFoot>
      </form>
    </Dialog>
  );
}

/** Fields without those that say when it runs. */
const without = (fields: Fields): Fields => {
  const times = Object.values(whens).flatMap((one) => one.fields as readonly string[]);
  return Object.fromEntries(Object.entries(fields).filter(([name]) => !times.includes(name)));
};

const changed = (was: Fields, is: Fields): Fields =>
  Object.fromEntries(Object.entries(is).filter(([name, text]) => was[name] !== text));
