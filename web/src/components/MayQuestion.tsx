import { useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { explain, get, type May } from "../api/client";
import { useRights } from "../lib/rights";
import { useUrlState } from "../lib/url";
import { Failure } from "./Failure";
import { Mark } from "./Mark";

/** Asks whether somebody may do a verb at an address, and who else may. */
export function MayQuestion({ names, verbs }: { names: string[]; verbs: string[] }) {
  const [params, change] = useUrlState();
  const { name: self, somewhere } = useRights();
  const who = params.get("who") ?? self;
  const verb = params.get("verb") ?? "see-content";
  const address = params.get("at") ?? "";
  const asked = useDeferredValue(new URLSearchParams({ verb, address }).toString());
  const may = useQuery({
    queryKey: ["may", who, asked],
    queryFn: () => get<May>(`/may?principal=${encodeURIComponent(who)}&${asked}`),
    enabled: address !== "",
  });
  const others = useQuery({
    queryKey: ["may-who", asked],
    queryFn: () => get<{ items: string[] }>(`/may/who?${asked}`),
    enabled: address !== "" && somewhere("access"),
    retry: false,
  });
  return (
    <section aria-label="Who may" className="mb-6 border-b border-hair pb-4">
      <div className="flex flex-wrap items-end gap-3">
        <label className="block">
          <span className="label">May</span>
          <select className="field address" value={who} onChange={(e) => change({ who: e.target.value })}>
            {[...new Set([who, ...names])].map((one) => (
              <option key={one}>{one}</option>
            ))}
          </select>
        </label>
        <label className="block">
          <span className="label">do</span>
          <select className="field address" value={verb} onChange={(e) => change({ verb: e.target.value })}>
            {verbs.map((one) => (
              <option key={one}>{one}</option>
            ))}
          </select>
        </label>
        <label className="block min-w-60 flex-1 md:max-w-96">
          <span className="label">at</span>
          <input
            className="field address"
            placeholder="coldchain/inspections"
            value={address}
            onChange={(e) => change({ at: e.target.value })}
          />
        </label>
      </div>
      <div className="mt-2 min-h-6" role="status">
        {address && may.error != null && <Failure text={explain(may.error)} />}
        {may.data && address && (
          <p>
            <Mark wrap state={may.data.may ? "ready" : "paused"} word={`${may.data.may ? "yes" : "no"}: ${may.data.says}`} />
          </p>
        )}
        {others.data && address && (
          <p className="text-soft">
            {others.data.items.length === 0 ? "Nobody may." : `These may: ${others.data.items.join(", ")}.`}
          </p>
        )}
        {!address && <p className="text-soft">Name an address to see whether somebody may, by which grant, and who else.</p>}
      </div>
    </section>
  );
}
