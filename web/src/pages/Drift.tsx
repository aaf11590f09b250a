import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import { call, channelPath, explain, get, groupPath, type Drift, type Preview } from "../api/client";
import { Command, Copy } from "../components/Copy";
import { Effects } from "../components/Effects";
import { Failure } from "../components/Failure";
import { ListPage } from "../components/ListPage";
import { Mark } from "../components/Mark";
import { Dialog, Notice } from "../components/Panel";
import type { Column } from "../components/Timetable";
import { pageOf } from "../lib/address";
import { clock } from "../lib/format";

/** Where the settings of a thing are changed. */
function pathOf({ kind, address }: Drift) {
  switch (kind) {
    case "nodes":
      return "/nodes";
    case "space":
      return `/spaces/${encodeURIComponent(address)}`;
    case "group":
    case "route":
      return groupPath(address);
    case "endpoint":
      return `/endpoints/${address}`;
  }
  return channelPath(address);
}

const wordsOf = (d: Drift) => (d.setting ? `${d.setting} of ${d.address}` : d.address);
const fileOf = (d: Drift) => (d.kind === "nodes" ? "nodes.yaml" : `${d.address.split("/")[0]}.yaml`);

/** What a file must say for it to be as it is. */
function TakeIntoFile({ drift, onClose }: { drift: Drift; onClose: () => void }) {
  return (
    <Dialog open onClose={onClose} title="Take into the file" about={wordsOf(drift)}>
      {drift.setting ? (
        <div className="space-y-3">
          <p>
            In declaration {drift.declaration}, where {drift.address} is declared (written by ferry declare: {fileOf(drift)}), put
          </p>
          <code className="command whitespace-pre-wrap">{drift.line}</code>
          <Copy text={drift.line} what="line">
            Copy the line
          </Copy>
          <p className="text-soft">Then apply the files: what is there and what they say is the same, and this row goes.</p>
          <Command text="ferry apply DIRECTORY -yes" />
        </div>
      ) : (
        <div className="space-y-3">
          <p>
            In declaration {drift.declaration}, take out what declares {drift.address}, and apply the files again. Applied as they
            are, they create it anew.
          </p>
          <Command text="ferry apply DIRECTORY -yes" />
        </div>
      )}
    </Dialog>
  );
}

function SetBack({ drift, onClose }: { drift: Drift; onClose: () => void }) {
  const client = useQueryClient();
  const [failed, setFailed] = useState("");
  const preview = useQuery({
    queryKey: ["drift", "back", drift.address, drift.setting],
    queryFn: () => call<Preview>("PATCH", `${pathOf(drift)}?preview=true`, drift.back),
    gcTime: 0,
  });
  const back = async () => {
    setFailed("");
    try {
      await call<Preview>("PATCH", pathOf(drift), drift.back);
      toast.success(`${wordsOf(drift)} is as declared`);
      await client.invalidateQueries({ queryKey: ["drift"], exact: true });
      onClose();
    } catch (error) {
      setFailed(explain(error));
    }
  };
  return (
    <Dialog open onClose={onClose} title="Set back" about={wordsOf(drift)}>
      {preview.data && <Effects preview={preview.data} />}
      <Failure text={failed || (preview.error ? explain(preview.error) : "")} />
      <div className="mt-4 flex gap-3">
        <button className="button" data-main disabled={!preview.data} onClick={() => void back()}>
          Set it back
        </button>
        <button className="button" onClick={onClose}>
          Leave it
        </button>
      </div>
    </Dialog>
  );
}

const textOf = (d: Drift) => `${d.address} ${d.setting} ${d.declaration} ${d.who ?? ""}`;

export function DriftPage() {
  const [open, setOpen] = useState<{ drift: Drift; way: "file" | "back" }>();
  const drift = useQuery({
    queryKey: ["drift"],
    queryFn: () => get<{ items: Drift[] }>("/drift"),
    refetchInterval: 10_000,
  });
  const waysOf = (d: Drift) => (
    <span className="flex gap-2">
      <button className="button whitespace-nowrap" onClick={() => setOpen({ drift: d, way: "file" })}>
        Take into the file
      </button>
      {d.back && (
        <button className="button whitespace-nowrap" onClick={() => setOpen({ drift: d, way: "back" })}>
          Set back
        </button>
      )}
    </span>
  );
  const columns: Column<Drift>[] = [
    {
      key: "address",
      title: "Address",
      className: "address whitespace-nowrap",
      show: (d) => (
        <>
          {d.setting && d.kind !== "nodes" && pageOf(d.address) ? <Link to={pageOf(d.address)!}>{d.address}</Link> : d.address}
          <span className="mt-1 block space-y-2 font-sans whitespace-normal md:hidden">
            <span className="block">{d.setting ? `${d.setting}: declared ${d.texts[0]}, is ${d.texts[1]}` : "is gone"}</span>
            {waysOf(d)}
          </span>
        </>
      ),
    },
    { key: "setting", title: "Setting", wide: true, show: (d) => d.setting },
    { key: "declared", title: "Declared", wide: true, show: (d) => d.texts[0] },
    {
      key: "is",
      title: "Is",
      wide: true,
      className: "font-semibold",
      show: (d) => (d.setting ? d.texts[1] : <Mark state="attention" word="gone" />),
    },
    {
      key: "declaration",
      title: "Declaration",
      className: "whitespace-nowrap",
      show: (d) => (
        <>
          {`${d.declaration} ${d.revision}`.trim()}, <span className="text-soft">{clock(d.at, false)}</span>
        </>
      ),
    },
    { key: "who", title: "Changed by", show: (d) => d.who },
    { key: "ways", title: "What to do", wide: true, show: waysOf },
  ];
  const close = () => setOpen(undefined);
  return (
    <>
      <ListPage
        title="Drift"
        note="What was changed by hand since files declared it"
        what="setting"
        rows={drift.data?.items}
        failed={drift.error && !drift.data ? explain(drift.error) : undefined}
        columns={columns}
        rowKey={(d) => `${d.address} ${d.setting}`}
        text={textOf}
        placeholder="address, setting, declaration or who"
        empty={
          <Notice title="Nothing has drifted from what is declared.">
            <p>Write what is there to files, change them, and apply them:</p>
            <Command text="ferry declare -to DIRECTORY" />
          </Notice>
        }
      />
      {open?.way === "file" && <TakeIntoFile drift={open.drift} onClose={close} />}
      {open?.way === "back" && <SetBack drift={open.drift} onClose={close} />}
    </>
  );
}
