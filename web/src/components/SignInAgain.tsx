import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, get, onSignInAgain, type SignIn } from "../api/client";
import { Dialog } from "./Panel";
import { SignInWays } from "./SignInWays";

const channel = "ferry-signed-in";
const stayEvery = 4 * 60_000;

/** The page on which a provider ends that was asked in another window: it says so, and goes. */
export function SignedIn() {
  useEffect(() => {
    new BroadcastChannel(channel).postMessage("");
    window.close();
  }, []);
  return (
    <p className="p-6">
      You are signed in. This window can be closed. <a href="/now">Go on here</a>
    </p>
  );
}

/** Asks to sign in again where a step takes a session that was begun lately, and then goes on with the step. */
export function SignInAgain({ name }: { name: string }) {
  const client = useQueryClient();
  const [waiting, setWaiting] = useState<(done: boolean) => void>();
  useEffect(() => onSignInAgain(() => new Promise((resolve) => setWaiting(() => resolve))), []);
  useEffect(() => {
    if (!waiting) return;
    const heard = new BroadcastChannel(channel);
    heard.onmessage = () => void get<SignIn>("/session").then(end);
    return () => heard.close();
  });
  const end = (who?: SignIn) => {
    waiting?.(who?.name === name);
    setWaiting(undefined);
    if (who && who.name !== name) void client.resetQueries();
  };
  // A session goes on while somebody is there: what pages ask by themselves does not count.
  useEffect(() => {
    let last = Date.now();
    const here = () => {
      if (Date.now() - last < stayEvery) return;
      last = Date.now();
      void call("PATCH", "/session").catch(() => undefined);
    };
    window.addEventListener("pointerdown", here);
    window.addEventListener("keydown", here);
    return () => {
      window.removeEventListener("pointerdown", here);
      window.removeEventListener("keydown", here);
    };
  }, []);
  if (!waiting) return null;
  return (
    <Dialog
      open
      onClose={() => end()}
      title="Sign in again"
      about={`This step takes ${name}, and lately: you may have left this page open.`}
    >
      <SignInWays anew onProvider={(path) => window.open(path, "_blank", "popup,width=560,height=640")} onDone={end} />
    </Dialog>
  );
}
