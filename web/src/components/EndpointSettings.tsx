import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { Endpoint } from "../api/client";
import { changesOf, type Fields, isOf, textOf } from "../lib/settings";
import { useChanging } from "./Changing";
import { Command } from "./Copy";
import { Failure } from "./Failure";
import { SettingFields, useSettings } from "./SettingFields";

const flagsOf: Record<string, string> = {
  signing: "secret-from",
  bearer: "bearer-from",
  password: "password-from",
  token: "token-from",
  certificate: "certificate-from",
  authority: "authority-from",
};

// Which secrets endpoints of a kind can have.
const secretsOf: Record<string, [name: string, label: string][]> = {
  http: [
    ["signing", "New signing secret"],
    ["bearer", "New bearer token"],
    ["certificate", "Certificate and key, as PEM"],
    ["authority", "Authority of the other side, as PEM"],
  ],
  table: [
    ["password", "New password"],
    ["certificate", "Certificate and key, as PEM"],
    ["authority", "Authority of the other side, as PEM"],
  ],
  ferry: [
    ["token", "New token"],
    ["authority", "Authority of the other side, as PEM"],
  ],
};

/** Changes an endpoint and its secrets: what a change means is shown first. */
export function EndpointSettings({ of }: { of: Endpoint }) {
  const client = useQueryClient();
  const table = useSettings();
  const rows = (table.data?.endpoints ?? []).filter((row) => isOf(row, of.kind) && row.name !== "paused");
  const values = of.settings as Record<string, unknown>;
  const initial = Object.fromEntries(rows.map((row) => [row.name, textOf(row, values[row.name])]));
  const [changed, setChanged] = useState<Fields>({});
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const changing = useChanging({
    address: of.address,
    path: `/endpoints/${of.address}`,
    done: async () => {
      setChanged({});
      setSecrets({});
      await client.invalidateQueries({ queryKey: ["endpoint", of.address] });
    },
  });
  const changes = changesOf(rows, initial, { ...initial, ...changed });
  const given = Object.fromEntries(Object.entries(secrets).filter(([name, text]) => text || name === "oldSigning"));
  const body = { ...changes.settings, ...(Object.keys(given).length > 0 && { secrets: given }) };
  const flags = [
    changes.flags,
    ...Object.keys(given)
      .filter((name) => given[name])
      .map((name) => `-${flagsOf[name]} FILE`),
    "oldSigning" in given && "-forget oldSigning",
  ]
    .filter(Boolean)
    .join(" ");
  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        void changing.see(body);
      }}
    >
      <SettingFields made rows={rows} fields={{ ...initial, ...changed }} onChange={setChanged} />
      <h3 className="pt-2 font-semibold">Secrets</h3>
      <p className="text-soft">
        {of.secrets.length > 0 ? `It has: ${of.secrets.join(", ")}. ` : "It has none. "}What they say is shown never.
        {of.kind === "http" && " After a new signing secret, deliveries are signed by the old one too, until it is taken away."}
      </p>
      <div className="grid gap-3 sm:grid-cols-2">
        {secretsOf[of.kind]!.map(([name, label]) => (
          <label key={name} className="block">
            <span className="label">{label}</span>
            {label.endsWith("PEM") ? (
              <textarea
                className="field h-16"
                value={secrets[name] ?? ""}
                onChange={(e) => setSecrets({ ...secrets, [name]: e.target.value })}
                spellCheck={false}
              />
            ) : (
              <input
                className="field"
                type="password"
                autoComplete="off"
                value={secrets[name] ?? ""}
                onChange={(e) => setSecrets({ ...secrets, [name]: e.target.value })}
              />
            )}
          </label>
        ))}
        {of.secrets.includes("oldSigning") && (
          <label className="flex items-center gap-2 self-end pb-2">
            <input
              type="checkbox"
              checked={"oldSigning" in secrets}
              onChange={(e) =>
                setSecrets(
                  e.target.checked
                    ? { ...secrets, oldSigning: "" }
                    : Object.fromEntries(Object.entries(secrets).filter(([name]) => name !== "oldSigning")),
                )
              }
            />
            Take the old signing secret away
          </label>
        )}
      </div>
      {flags && <Command text={`ferry set ${of.address} ${flags}`} />}
      <Failure text={changing.failed} />
      <button className="button" data-main disabled={!flags}>
        See what changes
      </button>
      {changing.dialog}
    </form>
  );
}
