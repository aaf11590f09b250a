import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { call, explain, get, type Watch, type WatchValue } from "../api/client";
import { changesOf, type Fields } from "../lib/settings";
import { AddressFields, useSpaces } from "./AddressFields";
import { Command } from "./Copy";
import { Failure } from "./Failure";
import { Dialog, DialogFoot } from "./Panel";
import { SettingFields, useSettings } from "./SettingFields";
import { WatchTrial } from "./WatchTrial";

/** What can be watched, as the service tells it. */
export const useWatchValues = () =>
  useQuery({
    queryKey: ["watch-values"],
    queryFn: () => get<{ values: WatchValue[] }>("/watch-values"),
    staleTime: Infinity,
  });

/** Makes a watch, and tries it on the past before. */
export function WatchDialog({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const values = useWatchValues();
  const table = useSettings();
  const known = [...useSpaces(), "nodes"];
  const [form, setForm] = useState({ space: "", name: "", fields: { value: "dead", warn: "5", alarm: "10" } as Fields });
  const [failed, setFailed] = useState("");
  const [busy, setBusy] = useState(false);
  const space = form.space || known[0]!;
  const rows = (table.data?.watches ?? []).filter((row) => row.name !== "paused");
  const defaults = Object.fromEntries(rows.map((row) => [row.name, row.default ?? ""]));
  const fields: Fields = { ...defaults, of: `${space}/*`, ...form.fields };
  const { settings, flags } = changesOf(rows, defaults, fields);
  const address = `${space}/${form.name || "NAME"}`;
  const set = (more: Fields) => setForm((f) => ({ ...f, fields: { ...f.fields, ...more } }));
  const help = values.data?.values.find((v) => v.name === fields.value)?.help;
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      await call<Watch>("POST", "/watches", { address, ...settings });
      await client.invalidateQueries({ queryKey: ["watches"] });
      onClose();
      navigate(`/watches/${address}`);
    } catch (error) {
      setFailed(explain(error));
      setBusy(false);
    }
  };
  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title="New watch"
      about="It judges every thing that its pattern covers, alone, each ten seconds; what is out of order for long enough is an incident."
    >
      <form onSubmit={submit} className="space-y-3">
        <div className="grid gap-3 sm:grid-cols-3">
          <AddressFields spaces={known} space={space} name={form.name} onChange={(part) => setForm({ ...form, ...part })} />
          <label className="block">
            <span className="label">Value {help && <span className="font-normal">({help})</span>}</span>
            <input className="field" list="watch-values" value={fields.value} onChange={(e) => set({ value: e.target.value })} />
            <datalist id="watch-values">
              {values.data?.values.map((v) => (
                <option key={v.name} value={v.name}>
                  {v.help}
                </option>
              ))}
            </datalist>
          </label>
        </div>
        <SettingFields rows={rows.filter((row) => row.name !== "value")} fields={fields} onChange={set} />
        <WatchTrial
          address={`${space}/${form.name || "new"}`}
          settings={settings}
          onLevel={(name, level) => set({ [name]: level })}
        />
        <Command text={`ferry new watch ${address} ${flags}`} />
        <Failure text={failed} />
        <DialogFoot>
          <button className="button" data-main disabled={busy || !form.name}>
            Create the watch
          </button>
        </DialogFoot>
      </form>
    </Dialog>
  );
}
