import { Link } from "react-router";
import type { Principal } from "../api/client";
import { act, type Change, type Setting } from "./Act";
import { Mark } from "./Mark";
import { May } from "./Part";
import type { Column } from "./Timetable";

/** The places at which a person signs in. */
const signsIn = (p: Principal) =>
  [p.provider, p.account && { open: "here", invited: "here (invited)", over: "here (invitation is over)" }[p.account]]
    .filter(Boolean)
    .join(", ");

/** How people and machines are listed. */
export const principalColumns = (change: Change, invite: (name: string) => void, set: Setting): Column<Principal>[] => [
  {
    key: "name",
    title: "Name",
    className: "whitespace-nowrap max-md:whitespace-normal",
    sort: (p) => p.name,
    show: (p) => (
      <Link to={`/logbook?who=${encodeURIComponent(p.name)}`} className="address font-semibold" title="What it did">
        {p.name}
      </Link>
    ),
  },
  {
    key: "state",
    title: "State",
    sort: (p) => Number(p.paused),
    show: (p) => <Mark state={p.paused ? "paused" : "ready"} word={p.paused ? "shut out" : "let in"} />,
  },
  { key: "kind", title: "Is a", sort: (p) => p.kind, show: (p) => p.kind },
  { key: "teams", title: "Teams", wide: true, show: (p) => [...new Set([...p.teams, ...p.brought])].join(", ") || "–" },
  { key: "provider", title: "Signs in at", wide: true, sort: signsIn, show: (p) => signsIn(p) || "–" },
  { key: "may", title: "Was given", show: (p) => p.roles.map((r) => <div key={r}>{r}</div>) },
  { key: "about", title: "For", wide: true, className: "text-soft", show: (p) => p.description },
  {
    key: "acts",
    title: "Actions",
    hidden: true,
    className: "min-w-44 space-x-3 leading-7",
    show: (p) =>
      p.name !== "owner" && (
        <May verb="access">
          {act(p.paused ? "Let in" : "Shut out", p.name, () =>
            change({
              title: `${p.paused ? "Let in" : "Shut out"} ${p.name}`,
              method: "PATCH",
              path: `/principals/${p.name}`,
              body: { paused: !p.paused },
              previewed: true,
            }),
          )}{" "}
          {act("Change", p.name, () => set("principal", p))}{" "}
          {p.kind === "person" && act(p.account ? "Invite anew" : "Invite", p.name, () => invite(p.name))}{" "}
          {p.account &&
            act("Close account", `of ${p.name}`, () =>
              change({
                title: `Close the account of ${p.name}`,
                method: "DELETE",
                path: `/accounts/${p.name}`,
                previewed: false,
                does: "Its password and codes are good for nothing any more, and its sessions end. Tokens and a provider stay.",
              }),
            )}{" "}
          {act("Remove", p.name, () =>
            change({ title: `Remove ${p.name}`, method: "DELETE", path: `/principals/${p.name}`, previewed: true }),
          )}
        </May>
      ),
  },
];
