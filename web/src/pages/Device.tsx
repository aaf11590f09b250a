import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, explain, get, type Device } from "../api/client";
import { Failure } from "../components/Failure";
import { useRights } from "../lib/rights";
import { clock } from "../lib/format";
import { useUrlState } from "../lib/url";

/** Lets a program in that waits with a code, as whoever is signed in here. */
export function DevicePage() {
  const [params, change] = useUrlState();
  const { name } = useRights();
  const [typed, setTyped] = useState("");
  const [done, setDone] = useState("");
  const [failed, setFailed] = useState("");
  const code = params.get("code") ?? "";
  const device = useQuery({
    queryKey: ["device", code],
    queryFn: () => get<Device>(`/devices/${encodeURIComponent(code)}`),
    enabled: code !== "" && !done,
  });
  const decide = async (let_: boolean) => {
    try {
      await call("POST", `/devices/${encodeURIComponent(code)}`, { let: let_ });
      setDone(let_ ? `It is let in as ${name}. This page can be closed.` : "It is not let in.");
    } catch (error) {
      setFailed(explain(error));
    }
  };
  return (
    <div className="mx-auto max-w-xl py-6">
      <h1 className="mb-3">Let a program in</h1>
      {done && <p role="status">{done}</p>}
      {!done && !device.data && (
        <form
          className="space-y-3"
          onSubmit={(e) => {
            e.preventDefault();
            change({ code: typed });
          }}
        >
          <label className="block">
            <span className="label">The code that ferry sign-in has printed</span>
            <input className="field address" value={typed} onChange={(e) => setTyped(e.target.value)} required autoFocus />
          </label>
          <Failure text={device.error && code ? explain(device.error) : ""} />
          <button className="button" data-main>
            Look
          </button>
        </form>
      )}
      {!done && device.data && (
        <div className="space-y-3">
          <p>
            <strong>{device.data.name}</strong>, from <span className="address">{device.data.address}</span>, wants to do what{" "}
            <strong>{name}</strong> may, with the code <span className="address font-semibold">{device.data.code}</span>. It waits
            until {clock(device.data.expiresAt, false)}.
          </p>
          <p className="text-soft">
            Let it in only if you have just begun that yourself, and it shows the same code. What it is called, it says of itself.
          </p>
          <Failure text={failed} />
          <div className="flex gap-3">
            <button className="button" data-main onClick={() => void decide(true)}>
              Let it in as {name}
            </button>
            <button className="button" onClick={() => void decide(false)}>
              Do not
            </button>
          </div>
        </div>
      )}
    </div>
  );
}
