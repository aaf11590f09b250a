import { useEffect, useRef, useState } from "react";
import { call, explain, type SignIn } from "../api/client";
import { Command } from "../components/Copy";
import { Failure } from "../components/Failure";

/** Signs in with a token, or with the one-time code behind # of the address. */
export function SignInPage({ onDone }: { onDone: (who: SignIn) => void }) {
  const [token, setToken] = useState("");
  const [failed, setFailed] = useState("");
  const tried = useRef(false);
  const enter = async (body: { token?: string; link?: string }) => {
    setFailed("");
    try {
      onDone(await call<SignIn>("POST", "/session", body));
    } catch (error) {
      setFailed(explain(error));
    }
  };
  useEffect(() => {
    const link = location.pathname === "/sign-in" ? location.hash.slice(1) : "";
    if (!link || tried.current) return;
    tried.current = true;
    history.replaceState(null, "", "/sign-in");
    void enter({ link });
  });
  return (
    <main className="mx-auto flex min-h-dvh max-w-md flex-col justify-center px-4 py-10">
      <img src="/mark.svg" alt="" width="48" height="48" className="mb-4" />
      <h1 className="mb-1">Steady Ferry</h1>
      <p className="mb-5 text-soft">Topics and queues, and what became of every message.</p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void enter({ token: token.trim() });
        }}
        className="space-y-3"
      >
        <label className="block">
          <span className="label">Token</span>
          <input
            className="field address"
            type="password"
            autoComplete="current-password"
            value={token}
            onChange={(e) => setToken(e.target.value)}
            autoFocus
            required
          />
        </label>
        <Failure text={failed} />
        <button className="button" data-main>
          Sign in
        </button>
      </form>
      <div className="mt-8 space-y-2 text-[length:var(--text-small)] text-soft">
        <p>The owner&apos;s token is in the file owner.token of the data directory. A link that signs in once is made with</p>
        <Command text="ferry access link" />
      </div>
    </main>
  );
}
