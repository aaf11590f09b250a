import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { explain, get, type Grant, type Mask, type Principal, type Role, type Second, type Secret } from "../api/client";
import { type Making, AccessDialog, NewTokenDialog, type Step, StepDialog } from "../components/AccessDialogs";
import { act, address, type Change, type Setting } from "../components/Act";
import { InviteDialog } from "../components/InviteDialog";
import { ListPage, MakeButton } from "../components/ListPage";
import { MayQuestion } from "../components/MayQuestion";
import { Notice } from "../components/Panel";
import { May } from "../components/Part";
import { principalColumns } from "../components/PrincipalColumns";
import { secondColumns, SecondDialog } from "../components/Seconds";
import type { Column } from "../components/Timetable";
import { ago, clock } from "../lib/format";
import { useRights } from "../lib/rights";
import { useUrlState } from "../lib/url";

const grantColumns = (change: Change): Column<Grant>[] => [
  { key: "to", title: "Given to", sort: (g) => g.to, show: (g) => <span className="address font-semibold">{g.to}</span> },
  {
    key: "role",
    title: "Role",
    sort: (g) => g.role,
    show: (g) => [g.role, g.opens && "may break the glass", g.second && "with a second person"].filter(Boolean).join(", "),
  },
  { key: "on", title: "On", sort: (g) => g.on, show: (g) => address(g.on) },
  { key: "until", title: "Until", wide: true, show: (g) => (g.until ? clock(g.until, false) : "it has no end") },
  { key: "why", title: "Why", wide: true, className: "text-soft", show: (g) => g.why || "–" },
  {
    key: "acts",
    title: "Actions",
    hidden: true,
    show: (g) => (
      <May verb="access">
        {act("Take back", `${g.role} on ${g.on} from ${g.to}`, () =>
          change({ title: `Take ${g.role} back from ${g.to}`, method: "DELETE", path: `/grants/${g.name}`, previewed: true }),
        )}
      </May>
    ),
  },
];

const roleColumns = (change: Change, set: Setting): Column<Role>[] => [
  { key: "name", title: "Role", sort: (r) => r.name, show: (r) => <span className="address font-semibold">{r.name}</span> },
  { key: "verbs", title: "Lets do", className: "max-w-xl", show: (r) => r.verbs.join(", ") },
  { key: "about", title: "For", wide: true, className: "text-soft", show: (r) => r.description },
  {
    key: "acts",
    title: "Actions",
    hidden: true,
    className: "whitespace-nowrap",
    show: (r) =>
      r.builtIn ? (
        <span className="text-soft">always there</span>
      ) : (
        <May verb="access">
          {act("Change", `the role ${r.name}`, () => set("role", r))}{" "}
          {act("Remove", r.name, () =>
            change({
              title: `Remove the role ${r.name}`,
              method: "DELETE",
              path: `/roles/${r.name}`,
              previewed: false,
              does: "It goes only if nobody has it.",
            }),
          )}
        </May>
      ),
  },
];

const maskColumns = (change: Change, set: Setting): Column<Mask>[] => [
  { key: "name", title: "Mask", sort: (m) => m.name, show: (m) => <span className="address font-semibold">{m.name}</span> },
  { key: "on", title: "On", sort: (m) => m.on, show: (m) => address(m.on) },
  { key: "fields", title: "Fields", show: (m) => address(m.fields.join(", ")) },
  { key: "show", title: "Shown as", sort: (m) => m.show, show: (m) => m.show },
  { key: "for", title: "For roles", show: (m) => m.for.join(", ") },
  { key: "about", title: "Description", wide: true, className: "text-soft", show: (m) => m.description || "–" },
  {
    key: "acts",
    title: "Actions",
    hidden: true,
    show: (m) => (
      <May verb="access">
        {act("Change", `the mask ${m.name}`, () => set("mask", m))}{" "}
        {act("Take away", `the mask ${m.name}`, () =>
          change({ title: `Take the mask ${m.name} away`, method: "DELETE", path: `/masks/${m.name}`, previewed: true }),
        )}
      </May>
    ),
  },
];

const secretColumns = (change: Change): Column<Secret>[] => [
  {
    key: "principal",
    title: "Of",
    sort: (s) => s.principal,
    show: (s) => <span className="address font-semibold">{s.principal}</span>,
  },
  { key: "kind", title: "Kind", sort: (s) => s.kind, show: (s) => s.kind },
  { key: "label", title: "Label", sort: (s) => s.label, show: (s) => s.label || "–" },
  {
    key: "good",
    title: "Good for",
    show: (s) =>
      s.role ? (
        <>
          {s.role} on {address(s.on ?? "")}
        </>
      ) : (
        "all that it may"
      ),
  },
  { key: "made", title: "Created", figures: true, wide: true, sort: (s) => s.createdAt, show: (s) => `${ago(s.createdAt)} ago` },
  {
    key: "used",
    title: "Used",
    figures: true,
    wide: true,
    sort: (s) => s.usedAt ?? "",
    show: (s) => (s.usedAt ? `${ago(s.usedAt)} ago` : "–"),
  },
  { key: "ends", title: "Ends", wide: true, show: (s) => (s.expiresAt ? clock(s.expiresAt, false) : "when it is revoked") },
  {
    key: "acts",
    title: "Actions",
    hidden: true,
    show: (s) =>
      s.own ? (
        <span className="text-soft">this one</span>
      ) : (
        act(s.kind === "session" ? "End" : "Revoke", `${s.kind} ${s.label} of ${s.principal}`, () =>
          change({
            title: `${s.kind === "session" ? "End" : "Revoke"} the ${s.kind} of ${s.principal}`,
            method: "DELETE",
            path: `/access/${s.id}`,
            previewed: false,
            does: "It is refused on every node from then on; streams that it opened end within a second.",
          }),
        )
      ),
  },
];

const views = {
  principals: "People and machines",
  grants: "Grants",
  roles: "Roles",
  masks: "Masks",
  access: "Tokens and sessions",
  seconds: "For a second person",
} as const;
type View = keyof typeof views;
type Items<T> = { items: T[] };

const made: Record<View, Making[]> = {
  principals: ["principal"],
  grants: ["grant"],
  roles: ["role"],
  masks: ["mask"],
  access: ["token"],
  seconds: [],
};
const whatOf: Record<View, string> = {
  principals: "principal",
  grants: "grant",
  roles: "role",
  masks: "mask",
  access: "token or session",
  seconds: "thing that took a second person",
};

const textOf = (one: unknown) => JSON.stringify(one);
const useList = <T,>(view: View, enabled = true) =>
  useQuery({ queryKey: ["access", view], queryFn: () => get<Items<T>>(`/${view}`), refetchInterval: 10_000, enabled });

/** Who may do what: people and machines, what they were given, roles, and tokens and sessions in force. */
export function AccessPage() {
  const [params, change] = useUrlState();
  const rights = useRights();
  const view = (params.get("show") ?? "principals") as View;
  const lists = {
    principals: useList<Principal>("principals"),
    grants: useList<Grant>("grants", view === "grants"),
    roles: useList<Role>("roles"),
    masks: useList<Mask>("masks", view === "masks"),
    access: useList<Secret>("access", view === "access"),
    seconds: useList<Second>("seconds", view === "seconds"),
  };
  const [making, setMaking] = useState<Making>();
  const [step, setStep] = useState<Step>();
  const [changing, setChanging] = useState<{ making: Parameters<Setting>[0]; of: Parameters<Setting>[1] }>();
  const set: Setting = (making, of) => setChanging({ making, of });
  const [second, setSecond] = useState<Second>();
  const [invited, setInvited] = useState<string>();
  const names = lists.principals.data?.items.map((p) => p.name) ?? [];
  const teams = [...new Set(lists.principals.data?.items.flatMap((p) => [...p.teams, ...p.brought]))].map(
    (team) => `team:${team}`,
  );
  const roles = lists.roles.data?.items ?? [];
  const suggest = { to: [...names, ...teams], role: roles.map((r) => r.name), for: roles.map((r) => r.name), principal: names };
  const verbs = [...new Set(roles.flatMap((r) => r.verbs))];
  const columns = {
    principals: principalColumns(setStep, setInvited, set),
    grants: grantColumns(setStep),
    roles: roleColumns(setStep, set),
    masks: maskColumns(setStep, set),
    access: secretColumns(setStep),
    seconds: secondColumns(setSecond),
  }[view] as Column<unknown>[];
  const list = lists[view];
  return (
    <>
      <ListPage<unknown>
        title="Who may do what"
        what={whatOf[view]}
        verb="access"
        rows={list.data?.items}
        failed={list.error && !list.data ? explain(list.error) : undefined}
        columns={columns}
        order={view === "grants" ? "to" : view === "access" ? "principal" : view === "roles" || view === "seconds" ? "" : "name"}
        rowKey={(one) => (one as { id?: string; name: string }).id ?? (one as { name: string }).name}
        text={textOf}
        placeholder="name, role or address"
        tools={
          <>
            <div className="flex flex-wrap gap-2" role="group" aria-label="Shown">
              {Object.entries(views).map(([key, name]) => (
                <button
                  key={key}
                  className="button"
                  aria-pressed={key === view}
                  onClick={() => change({ show: key, sort: "", down: "", filter: "" })}
                >
                  {name}
                </button>
              ))}
            </div>
            {(rights.somewhere("access") || view === "access") &&
              made[view].map((one) => <MakeButton key={one} name={`New ${one}`} open={() => setMaking(one)} />)}
          </>
        }
        above={<MayQuestion names={names} verbs={verbs} />}
        empty={<Notice title={`There is no ${whatOf[view]} yet.`} />}
      />
      {making === "token" && <NewTokenDialog suggest={suggest} onClose={() => setMaking(undefined)} />}
      {making && making !== "token" && <AccessDialog making={making} suggest={suggest} onClose={() => setMaking(undefined)} />}
      {changing && <AccessDialog {...changing} suggest={suggest} onClose={() => setChanging(undefined)} />}
      {second && <SecondDialog second={second} onClose={() => setSecond(undefined)} />}
      {invited && <InviteDialog name={invited} onClose={() => setInvited(undefined)} />}
      {step && <StepDialog step={step} onClose={() => setStep(undefined)} />}
    </>
  );
}
