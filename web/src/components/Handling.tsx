import { useQueryClient } from "@tanstack/react-query";
import { Pause, Play } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, explain, type Preview } from "../api/client";
import { Effects } from "./Effects";
import { Dialog } from "./Panel";

/** The head of a page of one thing that can be paused and removed: what it is, how it is, and the buttons. */
export function useHandling({ kind, address, path, all }: { kind: string; address: string; path: string; all: string }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [removing, setRemoving] = useState<Preview>();
  const attempt = async (f: () => Promise<void>) => {
    try {
      await f();
      await client.invalidateQueries({ queryKey: [kind, address] });
    } catch (error) {
      toast.error(explain(error));
    }
  };
  const remove = (only: boolean) =>
    attempt(async () => {
      const p = await call<Preview>("DELETE", `${path}?preview=${only}`);
      if (only) return setRemoving(p);
      toast.success(`${address} is removed`);
      navigate(all);
    });
  const buttons = (paused: boolean) => (
    <>
      <button className="button" onClick={() => void attempt(async () => void (await call("PATCH", path, { paused: !paused })))}>
        {paused ? <Play size={16} aria-hidden /> : <Pause size={16} aria-hidden />} {paused ? "Resume" : "Pause"}
      </button>
      <button className="button" onClick={() => void remove(true)}>
        Remove
      </button>
    </>
  );
  const dialog = removing && (
    <Dialog open onClose={() => setRemoving(undefined)} title={`Remove the ${kind}`} about={address}>
      <Effects preview={removing} />
      <button className="button mt-4" data-main onClick={() => void remove(false)}>
        Remove it
      </button>
    </Dialog>
  );
  return { attempt, buttons, dialog };
}
