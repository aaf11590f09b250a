import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import { call, explain, get, groupPath, type ChartThing, type Group } from "../api/client";
import { pageOf } from "../lib/address";
import { words } from "../lib/format";
import { ActionDialog } from "./ActionDialog";
import { ChoreDialog } from "./ChoreDialog";
import { Copy } from "./Copy";
import { Mark } from "./Mark";
import { Drawer } from "./Panel";
import { SeekDialog } from "./SeekDialog";

const pageOfThing = (t: ChartThing) =>
  t.kind === "endpoint" ? `/endpoints/${t.id}` : t.kind === "publisher" ? undefined : pageOf(t.id.replace(/^members:/, ""));

const deadOf = (t: ChartThing) => t.facts.find((f) => f.name === "dead")?.text ?? "0";

/** What is known of a thing on the chart, and what can be done about it there. */
export function ChartPanel({
  thing: t,
  onClose,
  onAround,
  onUnfold,
}: {
  thing: ChartThing;
  onClose: () => void;
  onAround: (id: string) => void;
  onUnfold: (id: string) => void;
}) {
  const client = useQueryClient();
  const [doing, setDoing] = useState<"return" | "seek" | "chore">();
  const isReader = t.kind === "group" || t.kind === "route";
  const group = useQuery({
    queryKey: ["group", t.id, "on chart"],
    queryFn: () => get<Group>(groupPath(t.id)),
    enabled: isReader,
  });
  const mayReturn = !t.folded && deadOf(t) !== "0";
  const pause = async () => {
    try {
      await call("PATCH", groupPath(t.id), { paused: !t.paused });
      toast.success(`${t.id} ${t.paused ? "goes on" : "is paused"}`);
      await client.invalidateQueries({ queryKey: ["chart"] });
    } catch (error) {
      toast.error(explain(error));
    }
  };
  const page = t.folded ? undefined : pageOfThing(t);
  return (
    <Drawer title={t.folded ? t.name : t.id} onClose={onClose}>
      <p className="mb-2 flex flex-wrap items-center gap-x-3">
        <span className="text-soft">{t.kind}</span>
        <Mark state={t.state} />
        {t.level !== "calm" && <Mark state={t.level} />}
        {!t.folded && t.kind !== "publisher" && t.kind !== "members" && <Copy text={t.id} what="address" />}
      </p>
      <p className="mb-3 font-semibold">{t.incident ? <Link to={`/incidents/${t.incident}`}>{t.says}</Link> : t.says}</p>
      {t.facts.length > 0 && (
        <dl className="mb-4 grid grid-cols-[auto_1fr] gap-x-4">
          {t.facts.map((f) => (
            <div key={f.name} className="contents">
              <dt className="text-soft">{words(f.name)}</dt>
              <dd className="text-right break-all tabular-nums">{f.text}</dd>
            </div>
          ))}
        </dl>
      )}
      {t.folded && (
        <>
          <button className="button mb-3" data-main onClick={() => onUnfold(t.id)}>
            Draw each of them
          </button>
          <ul className="address mb-3 space-y-0.5">
            {t.folded.map((id) => (
              <li key={id}>{id}</li>
            ))}
          </ul>
        </>
      )}
      <div className="flex flex-wrap gap-2">
        {mayReturn && (
          <button className="button" data-main onClick={() => setDoing("return")}>
            Return dead letters
          </button>
        )}
        {mayReturn && (
          <Link className="button" to={pageOf(`${t.id}/dead`) ?? "/dead"}>
            See why they failed
          </Link>
        )}
        {t.kind === "group" && !t.folded && group.data && (
          <button className="button" onClick={() => setDoing("seek")}>
            Seek
          </button>
        )}
        {isReader && !t.folded && (
          <button className="button" onClick={() => void pause()}>
            {t.paused ? "Resume" : "Pause"}
          </button>
        )}
        {page && (
          <Link className="button" to={page}>
            Open its page
          </Link>
        )}
        {(t.kind === "topic" || t.kind === "queue") && !t.folded && (
          <Link className="button" to={t.kind === "topic" ? `/channels/${t.id}?from=ago:5m` : `/channels/${t.id}`}>
            Look at messages
          </Link>
        )}
        {!t.folded && (
          <button className="button" onClick={() => onAround(t.id)}>
            Draw around it
          </button>
        )}
        {mayReturn && (
          <button className="button" onClick={() => setDoing("chore")}>
            Return them by a chore
          </button>
        )}
      </div>
      {doing === "return" && (
        <ActionDialog
          address={`${t.id}/dead`}
          doing="return"
          choice={{}}
          what={`all dead letters of ${t.id}`}
          onClose={() => setDoing(undefined)}
        />
      )}
      {doing === "seek" && group.data && <SeekDialog group={group.data} undo={false} onClose={() => setDoing(undefined)} />}
      {doing === "chore" && <ChoreDialog of={t.id} onClose={() => setDoing(undefined)} />}
    </Drawer>
  );
}
