import { Link } from "react-router";
import type { Incident } from "../api/client";
import { pageOf } from "../lib/address";
import { ago, clock } from "../lib/format";
import { Command } from "./Copy";
import { Mark } from "./Mark";

/** The page of what an incident is about: of a node, all nodes. */
export const thingPage = (i: Incident) =>
  i.kind === "node" ? "/nodes" : i.kind === "endpoint" ? `/endpoints/${i.address}` : (pageOf(i.address) ?? "/channels");

/** One incident that goes on, with its next step. */
export function IncidentRow({ incident: i, next = true }: { incident: Incident; next?: boolean }) {
  return (
    <article className="flex flex-wrap items-start gap-x-4 gap-y-1 border-b border-hair py-2">
      <div className="w-24 shrink-0">
        <Mark state={i.state} />
      </div>
      <div className="min-w-0 flex-1 basis-64">
        <p className="py-0.5">
          <Link to={`/incidents/${i.number}`} className="inline-block min-h-6 font-semibold">
            {i.says}
          </Link>
        </p>
        <p className="text-[length:var(--text-small)] leading-6 text-soft">
          since {clock(i.begunAt, false)}, {ago(i.begunAt)} ago ·{" "}
          <Link className="address" to={thingPage(i)}>
            {i.address}
          </Link>{" "}
          · by{" "}
          <Link className="address" to={`/watches/${i.watch}`}>
            {i.watch}
          </Link>
          {i.acknowledged && ` · seen by ${i.acknowledged.by}`}
          {i.silenced && ` · silent until ${clock(i.silenced.until, false)}: ${i.silenced.why}`}
        </p>
      </div>
      {next && (
        <div className="max-md:w-full md:w-80">
          <Command text={i.next} />
        </div>
      )}
    </article>
  );
}
