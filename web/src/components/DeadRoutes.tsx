import { Link } from "react-router";
import { useLive } from "../api/live";
import { readerPage } from "../lib/address";
import { Mark } from "./Mark";
import { NewRoute } from "./RouteDialog";

/** The routes that copy the dead letters of a queue, or of a reader, and a button for another one. */
export function DeadRoutes({ queue }: { queue: string }) {
  const { live } = useLive();
  const begin = `${queue}/dead@`;
  const routes = (live?.groups ?? []).filter((g) => g.address.startsWith(begin) && !g.address.slice(begin.length).includes("/"));
  return (
    <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1 text-[length:var(--text-small)]">
      {routes.map((g) => (
        <span key={g.address} className="flex flex-wrap items-center gap-x-2">
          <span className="text-soft">copied to</span> <span className="address">{g.to}</span>
          <span className="text-soft">by</span>
          <Link className="address" to={readerPage(g.address)}>
            {g.address}
          </Link>
          <Mark state={g.state} word={g.verdict} />
        </span>
      ))}
      <NewRoute source={`${queue}/dead`}>Copy what fails</NewRoute>
    </div>
  );
}
