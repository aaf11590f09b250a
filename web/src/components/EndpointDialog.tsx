import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { call, explain, type Endpoint } from "../api/client";
import { quote } from "../lib/format";
import { changesOf, type Fields, isOf } from "../lib/settings";
import { AddressFields, useSpaces } from "./AddressFields";
import { Command } from "./Copy";
import { Failure } from "./Failure";
import { Dialog } from "./Panel";
import { SettingFields, useSettings } from "./SettingFields";

const kinds: Record<string, string> = {
  https: "http",
  http: "http",
  postgresql: "table",
  "ferry+https": "ferry",
  "ferry+http": "ferry",
};

// The secret that an endpoint of a kind most often needs, and its flag.
const secrets: Record<string, { name: string; flag: string; label: string }> = {
  http: { name: "signing", flag: "secret-from", label: "Secret that signs deliveries (24 to 64 characters, or whsec_…)" },
  table: { name: "password", flag: "password-from", label: "Password of the database" },
  ferry: { name: "token", flag: "token-from", label: "Token of the other side" },
};

const asked: Record<string, string[]> = {
  http: ["format", "parallel", "backoff", "giveUpAfter", "handshake"],
  table: ["table", "columns", "keyColumns", "backoff"],
  ferry: ["backoff"],
};

/** Makes a place outside, to which routes can lead. */
export function EndpointDialog({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const table = useSettings();
  const [form, setForm] = useState({ space: "", name: "", url: "", secret: "", fields: {} as Fields });
  const [failed, setFailed] = useState("");
  const [busy, setBusy] = useState(false);
  const set = (part: Partial<typeof form>) => setForm((f) => ({ ...f, ...part }));
  const known = useSpaces();
  const space = form.space || known[0] || "";
  const kind = kinds[form.url.split(":")[0]!] ?? "http";
  const rows = (table.data?.endpoints ?? []).filter((row) => isOf(row, kind) && asked[kind]!.includes(row.name));
  const defaults = Object.fromEntries(rows.map((row) => [row.name, row.default]));
  const { settings, flags } = changesOf(rows, defaults, { ...defaults, ...form.fields });
  const secret = secrets[kind]!;
  const address = `${space || "SPACE"}/${form.name || "NAME"}`;
  const command = [`ferry new endpoint ${address} -url ${quote(form.url || "URL")}`, form.secret && `-${secret.flag} FILE`, flags]
    .filter(Boolean)
    .join(" ");
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFailed("");
    try {
      await call<Endpoint>("POST", "/endpoints", {
        address,
        url: form.url,
        ...settings,
        ...(form.secret && { secrets: { [secret.name]: form.secret } }),
      });
      await client.invalidateQueries({ queryKey: ["endpoints"] });
      onClose();
      navigate(`/endpoints/${address}`);
    } catch (error) {
      setFailed(explain(error));
      setBusy(false);
    }
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title="New endpoint"
      about="A place outside, to which routes deliver. What it does not take waits, or becomes a dead letter; nothing vanishes."
    >
      <form onSubmit={submit} className="space-y-3">
        <div className="grid gap-3 sm:grid-cols-2">
          <AddressFields spaces={known} space={space} name={form.name} onChange={set} />
        </div>
        <label className="block">
          <span className="label">Address (https://…, postgresql://USER@HOST/DATABASE or ferry+https://HOST/SPACE/CHANNEL)</span>
          <input
            className="field address"
            value={form.url}
            onChange={(e) => set({ url: e.target.value, fields: {} })}
            required
            spellCheck={false}
          />
        </label>
        <label className="block">
          <span className="label">{secret.label}</span>
          <input
            className="field"
            type="password"
            autoComplete="off"
            value={form.secret}
            onChange={(e) => set({ secret: e.target.value })}
          />
        </label>
        <SettingFields rows={rows} fields={{ ...defaults, ...form.fields }} onChange={(fields) => set({ fields })} />
        <Command text={command} />
        <Failure text={failed} />
        <button className="button" data-main disabled={busy || !form.name || !form.url || !space}>
          Create the endpoint
        </button>
      </form>
    </Dialog>
  );
}
