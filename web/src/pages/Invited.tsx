import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, explain, type Invited, type SignIn } from "../api/client";
import { Copy } from "../components/Copy";
import { Failure } from "../components/Failure";
import { CodeField, PasswordField } from "../components/PasswordField";
import { Strength } from "../components/Strength";

/** Begins an account here: whoever comes with an invitation takes the codes over, and chooses a password. */
export function InvitedPage({ onDone }: { onDone: (who: SignIn) => void }) {
  const [invitation] = useState(() => location.hash.slice(1));
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [failed, setFailed] = useState("");
  // The invitation does not stay in the address.
  useEffect(() => history.replaceState(null, "", "/invited"), []);
  const shown = useQuery({
    queryKey: ["invitation", invitation],
    queryFn: () => call<Invited>("POST", "/sign-in/invitation", { invitation }),
    retry: false,
    staleTime: Infinity,
  });
  const accept = async (e: React.FormEvent) => {
    e.preventDefault();
    setFailed("");
    try {
      const who = await call<SignIn>("POST", "/sign-in/invitation/accept", { invitation, password, code });
      localStorage.setItem("sign-in", "account");
      history.replaceState(null, "", "/");
      onDone(who);
    } catch (error) {
      setFailed(explain(error));
    }
  };
  return (
    <main className="mx-auto max-w-xl px-4 py-10">
      <img src="/mark.svg" alt="" width="48" height="48" className="mb-4" />
      <h1 className="mb-1">{shown.data ? `Welcome, ${shown.data.name}` : "Your account"}</h1>
      {shown.error && <Failure text={explain(shown.error)} />}
      {shown.data && (
        <form onSubmit={(e) => void accept(e)}>
          <p className="mb-6 text-soft">You sign in with this name, a password, and a code that changes every 30 seconds.</p>
          <h2 className="mb-2">1. Take the codes over</h2>
          <div className="mb-6 flex flex-wrap gap-4">
            <img
              src={`data:image/png;base64,${shown.data.picture}`}
              alt="A picture for an app that makes codes"
              width="180"
              height="180"
              className="self-start border border-hair bg-white p-2"
            />
            <div className="min-w-0 flex-1 basis-56 space-y-2">
              <p>Have an app that makes codes read this picture, or type:</p>
              <p className="flex items-center gap-1">
                <span className="address">{shown.data.secret.replace(/(.{4})(?=.)/g, "$1 ")}</span>
                <Copy text={shown.data.secret} what="secret" />
              </p>
              <p className="text-soft">
                <a href={shown.data.uri} className="underline">
                  On this device
                </a>
                , where it has such an app. Nobody else may have it.
              </p>
            </div>
          </div>
          <h2 className="mb-2">2. Choose a password</h2>
          <div className="mb-6 space-y-2">
            <input type="hidden" autoComplete="username" value={shown.data.name} readOnly />
            <PasswordField
              label="Password"
              help="12 characters or more, of any kind"
              value={password}
              onChange={setPassword}
              fresh
            />
            <Strength invitation={invitation} password={password} />
          </div>
          <h2 className="mb-2">3. Show that the codes work</h2>
          <div className="space-y-3">
            <CodeField value={code} onChange={setCode} />
            <Failure text={failed} />
            <button className="button" data-main>
              Begin
            </button>
          </div>
        </form>
      )}
    </main>
  );
}
