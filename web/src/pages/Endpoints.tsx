import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { explain, get, type Endpoint } from "../api/client";
import { Command } from "../components/Copy";
import { EndpointDialog } from "../components/EndpointDialog";
import { ListPage } from "../components/ListPage";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import type { Column } from "../components/Timetable";
import { ago } from "../lib/format";
import { readerPage } from "../lib/address";

const columns: Column<Endpoint>[] = [
  {
    key: "address",
    title: "Endpoint",
    sort: (e) => e.address,
    show: (e) => (
      <>
        <Link className="address" to={`/endpoints/${e.address}`}>
          {e.address}
        </Link>
        {e.description && (
          <div className="max-w-md truncate text-[length:var(--text-small)] text-soft max-md:hidden">{e.description}</div>
        )}
      </>
    ),
  },
  { key: "state", title: "State", sort: (e) => -e.severity, show: (e) => <Mark state={e.state} word={e.verdict} wrap /> },
  { key: "kind", title: "Kind", wide: true, sort: (e) => e.kind, show: (e) => e.kind },
  { key: "url", title: "Goes to", wide: true, className: "address break-all", show: (e) => e.url },
  {
    key: "routes",
    title: "Routes",
    wide: true,
    show: (e) => e.routes.map((r) => <RouteLink key={r} address={r} />),
  },
  { key: "good", title: "Last good", figures: true, wide: true, show: (e) => ago(e.lastGood) },
];

/** A link to the page of a route. */
export function RouteLink({ address }: { address: string }) {
  return (
    <Link className="address mr-3" to={readerPage(address)}>
      {address}
    </Link>
  );
}

const textOf = (e: Endpoint) => `${e.address} ${e.url} ${e.description} ${e.state}`;

export function Endpoints() {
  const [creating, setCreating] = useState(false);
  const all = useQuery({
    queryKey: ["endpoints"],
    queryFn: () => get<{ items: Endpoint[] }>("/endpoints?limit=1000"),
    refetchInterval: 2000,
    placeholderData: (old) => old,
  });
  return (
    <>
      <ListPage
        title="Endpoints"
        what="endpoint"
        rows={all.data?.items}
        failed={all.error && !all.data ? explain(all.error) : undefined}
        columns={columns}
        order="address"
        rowKey={(e) => e.address}
        text={textOf}
        placeholder="name or address"
        maker={{ verb: "route", name: "New endpoint", open: () => setCreating(true) }}
        empty={
          <Notice title="Nothing is delivered to places outside yet.">
            <p>An endpoint is an address, a table or another Steady Ferry, to which routes deliver. Create the first one with</p>
            <Command
              text={
                "ferry new endpoint coldchain/clinic-hook -url https://clinics.example/recalls -secret-from FILE\nferry endpoint try coldchain/clinic-hook"
              }
            />
          </Notice>
        }
      />
      {creating && <EndpointDialog onClose={() => setCreating(false)} />}
    </>
  );
}
