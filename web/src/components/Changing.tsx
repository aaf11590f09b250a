import { useState } from "react";
import { toast } from "sonner";
import { call, explain, type Preview } from "../api/client";
import { Effects } from "./Effects";
import { Dialog } from "./Panel";

/** A change of a thing: see says first what it does, in the dialog, in which it is done or left. */
export function useChanging({ address, path, done }: { address: string; path: string; done: () => void | Promise<void> }) {
  const [shown, setShown] = useState<{ preview: Preview; body: unknown }>();
  const [failed, setFailed] = useState("");
  const attempt = async (f: () => Promise<void>) => {
    setFailed("");
    try {
      await f();
    } catch (error) {
      setShown(undefined);
      setFailed(explain(error));
    }
  };
  const see = (body: unknown) =>
    attempt(async () => setShown({ preview: await call<Preview>("PATCH", `${path}?preview=true`, body), body }));
  const change = () =>
    attempt(async () => {
      await call<Preview>("PATCH", path, shown!.body);
      setShown(undefined);
      toast.success(`${address} is changed`);
      await done();
    });
  const dialog = shown && (
    <Dialog open onClose={() => setShown(undefined)} title="What changes" about={address}>
      <Effects preview={shown.preview} />
      <div className="mt-4 flex gap-3">
        <button type="button" className="button" data-main onClick={() => void change()}>
          Change it
        </button>
        <button type="button" className="button" onClick={() => setShown(undefined)}>
          Leave it
        </button>
      </div>
    </Dialog>
  );
  return { see, failed, dialog };
}
