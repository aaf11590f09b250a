import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { call, explain, type Preview, type Token } from "../api/client";
import { quote } from "../lib/format";
import { changesOf, type Fields, textOf } from "../lib/settings";
import { Command } from "./Copy";
import { Effects } from "./Effects";
import { Failure } from "./Failure";
import { Dialog, DialogFoot } from "./Panel";
import { SettingFields, useSettings } from "./SettingFields";

/** What can be made on the page of who may do what. */
export type Making = "principal" | "role" | "grant" | "mask" | "token";

const kinds = {
  principal: {
    table: "principals",
    fields: ["kind", "teams", "description"],
    named: true,
    needs: null,
    does: "Create the principal",
    about: "A person who signs in, or a machine with tokens of its own. It may do nothing until it is given a role.",
  },
  role: {
    table: "roles",
    fields: ["verbs", "description"],
    named: true,
    needs: null,
    does: "Create the role",
    about: "A set of verbs with a name; it gives nobody anything yet.",
  },
  mask: {
    table: "masks",
    fields: ["on", "fields", "show", "for", "description"],
    named: true,
    needs: ["on", "fields", "for"],
    does: "Hide them",
    about: "Fields of messages that some roles do not show: key, header.NAME, or a JSON Pointer into the body such as /box.",
  },
  grant: {
    table: "grants",
    fields: ["to", "role", "on", "until", "why", "opens", "second"],
    named: false,
    needs: ["to", "role", "on"],
    does: "Give it",
    about: "A role, given on what a pattern covers: coldchain is the whole space, coldchain/inspections one channel.",
  },
} as const;

/** Makes a principal, a role, a grant or a mask, or changes one that is there; where it can, it says before who gains or loses what. */
export function AccessDialog({
  making,
  of,
  suggest,
  onClose,
}: {
  making: Exclude<Making, "token">;
  of?: { name: string } & Record<string, unknown>; // that is changed
  suggest: Record<string, string[]>;
  onClose: () => void;
}) {
  const client = useQueryClient();
  const table = useSettings();
  const [name, setName] = useState(of?.name ?? "");
  const [given, setFields] = useState<Fields>({ ...(making === "principal" && !of && { kind: "person" }) });
  const [failed, setFailed] = useState("");
  const kind = kinds[making];
  const rows = kind.fields
    .filter((one) => !of || one !== "kind")
    .flatMap((one) => (table.data?.[kind.table] ?? []).filter((row) => row.name === one));
  const was: Fields = of ? Object.fromEntries(rows.map((row) => [row.name, textOf(row, of[row.name])])) : {};
  const fields = { ...was, ...given };
  const { settings, flags } = changesOf(rows, was, fields);
  const changed = Object.keys(settings).length > 0;
  const body = { ...settings, ...(kind.named && !of && { name }) };
  const [method, path] = of ? (["PATCH", `/${kind.table}/${name}`] as const) : (["POST", `/${kind.table}`] as const);
  const text = useDeferredValue(JSON.stringify(body));
  const preview = useQuery({
    queryKey: ["access-preview", kind.table, text],
    queryFn: () => call<Preview>(method, `${path}?preview=true`, JSON.parse(text)),
    enabled: of ? changed : (!kind.named || name !== "") && !!kind.needs?.every((one) => !!fields[one]),
    retry: false,
  });
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    try {
      await call(method, path, body);
      await client.invalidateQueries();
      onClose();
    } catch (error) {
      setFailed(explain(error));
    }
  };
  // On the command line what it is, or who gets it, stands before the flags.
  const { to, kind: is, ...rest } = fields;
  const command = of
    ? ["ferry access set", making !== "principal" && making, name, flags, "-yes"]
    : [
        `ferry access new ${is ?? making} ${(kind.named ? name : to) || "NAME"}`,
        changesOf(rows, {}, rest).flags,
        kind.needs && "-yes",
      ];
  return (
    <Dialog open onClose={onClose} title={of ? `Change the ${making} ${name}` : `New ${making}`} about={kind.about}>
      <form onSubmit={submit} className="space-y-3">
        {kind.named && !of && (
          <label className="block">
            <span className="label">Name</span>
            <input className="field address" value={name} onChange={(e) => setName(e.target.value)} required autoFocus />
          </label>
        )}
        <SettingFields rows={rows} fields={fields} suggest={suggest} onChange={setFields} />
        {preview.data && <Effects preview={preview.data} />}
        <Failure text={failed || (preview.error ? explain(preview.error) : "")} />
        <Command text={command.filter(Boolean).join(" ")} />
        <DialogFoot>
          <button className="button" data-main disabled={of || kind.needs ? !preview.data || (!!of && !changed) : !name}>
            {of ? "Change it" : kind.does}
          </button>
        </DialogFoot>
      </form>
    </Dialog>
  );
}

/** Makes a token, and tells it once. */
export function NewTokenDialog({ suggest, onClose }: { suggest: Record<string, string[]>; onClose: () => void }) {
  const client = useQueryClient();
  const [fields, setFields] = useState({ principal: "", label: "", role: "", on: "", expires: "90d" });
  const [made, setMade] = useState<Token>();
  const [failed, setFailed] = useState("");
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    try {
      setMade(
        await call<Token>("POST", "/access/tokens", Object.fromEntries(Object.entries(fields).filter(([, v]) => v !== ""))),
      );
      await client.invalidateQueries({ queryKey: ["access"] });
    } catch (error) {
      setFailed(explain(error));
    }
  };
  const asked = [
    ["principal", "For", "the name of a machine, which is made if it is not there; empty: for yourself"],
    ["label", "Label", "what the token is for"],
    ["role", "Role", "all that it is good for; empty: all that its principal may"],
    ["on", "On", "a pattern, such as coldchain/readings"],
    ["expires", "Expires", "a duration such as 90d; empty: never"],
  ] as const;
  const flags = asked
    .slice(1)
    .filter(([key]) => fields[key])
    .map(([key]) => `-${key} ${quote(fields[key])}`);
  return (
    <Dialog open onClose={onClose} title="New token" about="It is told once, and kept as a hash.">
      {made ? (
        <div className="space-y-3">
          <p>The token of {made.principal}. It is not told again:</p>
          <Command text={made.token} />
          <button className="button" data-main onClick={onClose}>
            I have it
          </button>
        </div>
      ) : (
        <form onSubmit={submit} className="space-y-3">
          {asked.map(([key, label, help]) => (
            <label key={key} className="block">
              <span className="label">
                {label} <span className="font-normal">({help})</span>
              </span>
              <input
                className="field"
                list={suggest[key] && `token-${key}`}
                value={fields[key]}
                onChange={(e) => setFields({ ...fields, [key]: e.target.value })}
                required={key === "label"}
              />
              {suggest[key] && (
                <datalist id={`token-${key}`}>
                  {suggest[key]!.map((one) => (
                    <option key={one} value={one} />
                  ))}
                </datalist>
              )}
            </label>
          ))}
          <Failure text={failed} />
          <Command text={`ferry access new token ${[fields.principal, ...flags].filter(Boolean).join(" ")}`} />
          <DialogFoot>
            <button className="button" data-main disabled={!fields.label}>
              Create the token
            </button>
          </DialogFoot>
        </form>
      )}
    </Dialog>
  );
}

/** A change of who may do what: it says first what it does. */
export type Step = { title: string; method: "DELETE" | "PATCH"; path: string; body?: unknown; previewed: boolean; does?: string };

export function StepDialog({ step, onClose }: { step: Step; onClose: () => void }) {
  const client = useQueryClient();
  const [failed, setFailed] = useState("");
  const preview = useQuery({
    queryKey: ["access-step", step],
    queryFn: () => call<Preview>(step.method, `${step.path}?preview=true`, step.body),
    enabled: step.previewed,
    retry: false,
    gcTime: 0,
  });
  const go = async () => {
    try {
      await call(step.method, step.path, step.body);
      await client.invalidateQueries();
      onClose();
    } catch (error) {
      setFailed(explain(error));
    }
  };
  return (
    <Dialog open onClose={onClose} title={step.title} about="Nothing is changed yet.">
      <div className="space-y-3">
        {step.does && <p>{step.does}</p>}
        {preview.data && <Effects preview={preview.data} />}
        <Failure text={failed || (preview.error ? explain(preview.error) : "")} />
        <div className="flex justify-end gap-3">
          <button className="button" onClick={onClose}>
            Cancel
          </button>
          <button className="button" data-alarm disabled={step.previewed && !preview.data} onClick={() => void go()}>
            {step.title}
          </button>
        </div>
      </div>
    </Dialog>
  );
}
