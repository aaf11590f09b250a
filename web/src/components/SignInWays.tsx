import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, explain, get, type SignIn, type SignInWays as Ways } from "../api/client";
import { Failure } from "./Failure";
import { CodeField, PasswordField } from "./PasswordField";

const page = () => location.pathname + location.search;

const forms = { account: "Name and password", token: "Token" } as const;
type Form = keyof typeof forms;
const lastForm = "sign-in";

/** The ways to sign in: a button for each provider, an account here, and a token. */
export function SignInWays({
  anew = false,
  onProvider,
  onDone,
}: {
  anew?: boolean; // people are asked again who they are
  onProvider?: (path: string) => void; // instead of going there
  onDone: (who: SignIn) => void;
}) {
  const ways = useQuery({ queryKey: ["sign-in-ways"], queryFn: () => get<Ways>("/sign-in"), staleTime: 60_000 });
  const [chosen, setChosen] = useState<string | null>(() => localStorage.getItem(lastForm));
  const [fields, setFields] = useState({ token: "", name: "", password: "", code: "" });
  const [failed, setFailed] = useState("");
  const set = (part: Partial<typeof fields>) => setFields({ ...fields, ...part });
  const offered = ways.data
    ? (["account", "token"] as const).filter((one) => ways.data[`${one}s`])
    : (["token"] as const satisfies readonly Form[]);
  const form = offered.find((one) => one === chosen) ?? offered.at(-1);
  const enter = async (e: React.FormEvent) => {
    e.preventDefault();
    setFailed("");
    const { token, ...account } = fields;
    try {
      onDone(
        form === "token"
          ? await call<SignIn>("POST", "/session", { token: token.trim() })
          : await call<SignIn>("POST", "/sign-in/account", account),
      );
      localStorage.setItem(lastForm, form ?? "");
    } catch (error) {
      setFailed(explain(error));
    }
  };
  const providers = ways.data?.providers ?? [];
  const wanted = location.pathname === "/sign-in" ? "/" : page();
  const first = providers.length === 0;
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
      {form && (
        <form onSubmit={(e) => void enter(e)} className={`space-y-3 ${first ? "" : "mt-5 border-t border-hair pt-4"}`}>
          {offered.length > 1 && (
            <div className="flex gap-2" role="group" aria-label="Sign in with">
              {offered.map((one) => (
                <button key={one} type="button" className="button" aria-pressed={one === form} onClick={() => setChosen(one)}>
                  {forms[one]}
                </button>
              ))}
            </div>
          )}
          {form === "token" ? (
            <PasswordField label="Token" value={fields.token} onChange={(token) => set({ token })} autoFocus={first} />
          ) : (
            <>
              <label className="block">
                <span className="label">Name</span>
                <input
                  className="field address"
                  autoComplete="username"
                  spellCheck={false}
                  value={fields.name}
                  onChange={(e) => set({ name: e.target.value })}
                  autoFocus={first}
                  required
                />
              </label>
              <PasswordField label="Password" value={fields.password} onChange={(password) => set({ password })} />
              <CodeField value={fields.code} onChange={(code) => set({ code })} />
            </>
          )}
          <Failure text={failed} />
          <button className="button" data-main={first || undefined}>
            Sign in{!first && (form === "token" ? " with the token" : " with the password")}
          </button>
        </form>
      )}
    </>
  );
}
