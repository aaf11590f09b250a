import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { call, explain, type SignIn } from "../api/client";
import { Failure } from "./Failure";
import { Dialog, DialogFoot } from "./Panel";
import { CodeField, PasswordField } from "./PasswordField";

/** Changes the password of whoever has signed in with an account here. */
export function PasswordDialog({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const [fields, setFields] = useState({ password: "", code: "", next: "" });
  const [failed, setFailed] = useState("");
  const set = (part: Partial<typeof fields>) => setFields({ ...fields, ...part });
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setFailed("");
    try {
      client.setQueryData(["session"], await call<SignIn>("PUT", "/account", fields));
      toast.success("The password is changed; your other sessions have ended");
      onClose();
    } catch (error) {
      setFailed(explain(error));
    }
  };
  return (
    <Dialog open onClose={onClose} title="Change your password" about="All your sessions end but this one.">
      <form onSubmit={(e) => void submit(e)} className="space-y-3">
        <PasswordField label="Password until now" value={fields.password} onChange={(password) => set({ password })} autoFocus />
        <PasswordField
          label="New password"
          help="12 characters or more, of any kind"
          value={fields.next}
          onChange={(next) => set({ next })}
          fresh
        />
        <CodeField value={fields.code} onChange={(code) => set({ code })} />
        <Failure text={failed} />
        <DialogFoot>
          <button className="button" data-main>
            Change it
          </button>
        </DialogFoot>
      </form>
    </Dialog>
  );
}
