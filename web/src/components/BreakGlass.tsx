import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, explain, type Preview } from "../api/client";
import { quote } from "../lib/format";
import { useSession } from "../lib/rights";
import { Command } from "./Copy";
import { Effects } from "./Effects";
import { Failure } from "./Failure";
import { Dialog, DialogFoot } from "./Panel";

/** Where contents are hidden from who may open them for a while: a button that asks for the reason. */
export function BreakGlass({ at }: { at: string }) {
  const [open, setOpen] = useState(false);
  const opens = useSession().data?.opens ?? [];
  // The service decides; here it is only told whether it is worth asking.
  if (!opens.some((p) => p.includes("*") || p === at || at.startsWith(`${p}/`))) return null;
  return (
    <>
      <button className="text-sea hover:underline" onClick={() => setOpen(true)}>
        Break the glass
      </button>
      {open && <BreakGlassDialog at={at} onClose={() => setOpen(false)} />}
    </>
  );
}

function BreakGlassDialog({ at, onClose }: { at: string; onClose: () => void }) {
  const client = useQueryClient();
  const [why, setWhy] = useState("");
  const [preview, setPreview] = useState<Preview>();
  const [failed, setFailed] = useState("");
  const ask = async (really: boolean) => {
    setFailed("");
    try {
      const told = await call<Preview>("POST", `/break-glass${really ? "" : "?preview=true"}`, { on: at, why });
      if (!really) return setPreview(told);
      await client.invalidateQueries();
      onClose();
    } catch (error) {
      setFailed(explain(error));
    }
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title="Break the glass"
      about="What is in messages is seen for an hour. The reason is recorded, and those who look after it are told at once."
    >
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          void ask(!!preview);
        }}
      >
        <label className="block">
          <span className="label">Why</span>
          <input
            className="field"
            value={why}
            onChange={(e) => {
              setWhy(e.target.value);
              setPreview(undefined);
            }}
            required
            autoFocus
          />
        </label>
        {preview && <Effects preview={preview} />}
        <Failure text={failed} />
        <Command text={`ferry access break-glass ${quote(at)} -why ${quote(why || "TEXT")}${preview ? " -yes" : ""}`} />
        <DialogFoot>
          <button className="button" data-main={!preview || undefined} data-alarm={!!preview || undefined} disabled={!why.trim()}>
            {preview ? "Break the glass" : "See what it does"}
          </button>
        </DialogFoot>
      </form>
    </Dialog>
  );
}
