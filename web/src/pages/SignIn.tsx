import { useEffect, useRef, useState } from "react";
import { call, explain, type SignIn } from "../api/client";
import { Command } from "../components/Copy";
import { Failure } from "../components/Failure";
import { SignInWays } from "../components/SignInWays";

/** Why nobody was let in, by what the service puts into the address. */
const whys: Record<string, string> = {
  away: "The place at which you sign in does not answer. Try again in a moment.",
  late: "It took too long, or was begun in another browser. Try again.",
  refused: "You are not let in: whoever looks after this service finds the reason in its log.",
};

/** Signs in at a provider, with a token, or with the one-time code behind # of the address. */
export function SignInPage({ onDone }: { onDone: (who: SignIn) => void }) {
  const why = new URLSearchParams(location.search).get("failed") ?? "";
  const [failed, setFailed] = useState(location.pathname === "/sign-in" ? (whys[why] ?? "") : "");
  const tried = useRef(false);
  useEffect(() => {
    const link = location.pathname === "/sign-in" ? location.hash.slice(1) : "";
    if (!link || tried.current) return;
    tried.current = true;
    history.replaceState(null, "", "/sign-in");
    void call<SignIn>("POST", "/session", { link }).then(onDone, (error) => setFailed(explain(error)));
  });
  return (
    <main className="mx-auto flex min-h-dvh max-w-md flex-col justify-center px-4 py-10">
      <img src="/mark.svg" alt="" width="48" height="48" className="mb-4" />
      <h1 className="mb-1">Steady Ferry</h1>
      <p className="mb-5 text-soft">Topics and queues, and what became of every message.</p>
      <Failure text={failed} />
      <SignInWays onDone={onDone} />
      <div className="mt-8 space-y-2 text-[length:var(--text-small)] text-soft">
        <p>The owner&apos;s token is in the file owner.token of the data directory. A link that signs in once is made with</p>
        <Command text="ferry access link" />
      </div>
    </main>
  );
}
