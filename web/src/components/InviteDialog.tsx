import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, explain, type Invitation } from "../api/client";
import { clock } from "../lib/format";
import { Command } from "./Copy";
import { Failure } from "./Failure";
import { Dialog, DialogFoot } from "./Panel";

/** Invites a person to an account here, and tells the address once. */
export function InviteDialog({ name, onClose }: { name: string; onClose: () => void }) {
  const client = useQueryClient();
  const [made, setMade] = useState<Invitation>();
  const [failed, setFailed] = useState("");
  const invite = async (e: React.FormEvent) => {
    e.preventDefault();
    setFailed("");
    try {
      setMade(await call<Invitation>("POST", "/accounts", { principal: name }));
      await client.invalidateQueries({ queryKey: ["access"] });
    } catch (error) {
      setFailed(explain(error));
    }
  };
  return (
    <Dialog open onClose={onClose} title={`Invite ${name}`} about="To a password and codes of their own, here.">
      {made ? (
        <div className="space-y-3">
          <p>
            Hand this address to {name}, and to nobody else. It works once, until {clock(made.expiresAt, false)}, and is not told
            again:
          </p>
          <Command text={location.origin + made.path} />
          <button className="button" data-main onClick={onClose}>
            I have it
          </button>
        </div>
      ) : (
        <form onSubmit={(e) => void invite(e)} className="space-y-3">
          <p>
            For who is not known at a provider. A password and codes that {name} has now end by it, and so do their sessions here.
          </p>
          <Failure text={failed} />
          <Command text={`ferry access new account ${name}`} />
          <DialogFoot>
            <button className="button" data-main>
              Create the invitation
            </button>
          </DialogFoot>
        </form>
      )}
    </Dialog>
  );
}
