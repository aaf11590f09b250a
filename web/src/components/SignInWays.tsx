import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, explain, get, type SignIn, type SignInWays as Ways } from "../api/client";
import { Failure } from "./Failure";

const page = () => location.pathname + location.search;

/** The ways to sign in: a button for each provider, and a token. */
export function SignInWays({
  anew = false,
  onProvider,
  onDone,
}: {
  anew?: boolean; // people are asked again who they are
  onProvider?: (path: string) => void; // instead of going there
  onDone: (who: SignIn) => void;
}) {
  const [token, setToken] = useState("");
  const [failed, setFailed] = useState("");
  const ways = useQuery({ queryKey: ["sign-in-ways"], queryFn: () => get<Ways>("/sign-in"), staleTime: 60_000 });
  const enter = async (e: React.FormEvent) => {
    e.preventDefault();
    setFailed("");
    try {
      onDone(await call<SignIn>("POST", "/session", { token: token.trim() }));
    } catch (error) {
      setFailed(explain(error));
    }
  };
  const providers = ways.data?.providers ?? [];
  const wanted = location.pathname === "/sign-in" ? "/" : page();
  return (
    <>
      {providers.map((p) => {
        const path = `/api/v1/sign-in/${p.provider}?${new URLSearchParams({ to: onProvider ? "/signed-in" : wanted, ...(anew && { anew: "true" }) })}`;
        return onProvider ? (
          <button
            key={p.provider}
            type="button"
            className="button w-full justify-center"
            data-main
            onClick={() => onProvider(path)}
          >
            Sign in at {p.label}
          </button>
        ) : (
          <a key={p.provider} className="button w-full justify-center no-underline" data-main href={path}>
            Sign in at {p.label}
          </a>
        );
      })}
      <form
        onSubmit={(e) => void enter(e)}
        className={`space-y-3 ${providers.length > 0 ? "mt-5 border-t border-hair pt-4" : ""}`}
      >
        <label className="block">
          <span className="label">Token</span>
          <input
            className="field address"
            type="password"
            autoComplete="current-password"
            value={token}
            onChange={(e) => setToken(e.target.value)}
            autoFocus={providers.length === 0}
            required
          />
        </label>
        <Failure text={failed} />
        <button className="button" data-main={providers.length === 0 || undefined}>
          Sign in{providers.length > 0 && " with the token"}
        </button>
      </form>
    </>
  );
}
