import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { explain, get, queuePath, type Trace } from "../api/client";
import { bodyText } from "../components/MessageDrawer";
import { Copy } from "../components/Copy";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { Story } from "../components/Story";
import { pageOf } from "../lib/address";

/** The story of one message. */
export function TracePage() {
  const { space, channel, place } = useParams();
  const queue = `${space}/${channel}`;
  const [partition, offset] = place!.split(":");
  const trace = useQuery({
    queryKey: ["trace", queue, place],
    queryFn: () => get<Trace>(`${queuePath(queue)}/trace/${partition}/${offset}`),
    // The story of a message that is done, or of a topic, changes seldom.
    refetchInterval: (q) => (["done", "kept"].includes(q.state.data?.state ?? "") ? 10_000 : 2000),
    retry: false,
  });
  if (trace.error && !trace.data) return <Notice mark={<Mark state="attention" word="" />} title={explain(trace.error)} />;
  if (!trace.data) return <Notice title={`Waiting for ${queue}#${place}`} />;
  const t = trace.data;
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-4">
        <h1 className="address flex items-center gap-1">
          {t.address}
          <Copy text={t.address} what="address" />
        </h1>
        <Mark state={t.state === "kept" ? "ready" : t.state} word={t.state} />
        {t.id && <span className="address text-soft">id {t.id}</span>}
      </div>
      <div className="grid gap-6 lg:grid-cols-2">
        <section>
          <h2 className="mb-2">What happened</h2>
          <Story steps={t.steps} />
          {t.copies.length > 0 && (
            <p>
              The same message:{" "}
              {t.copies.map((c) => (
                <Link key={c} className="address mr-2" to={pageOf(c) ?? "#"}>
                  {c}
                </Link>
              ))}
            </p>
          )}
        </section>
        <section>
          <h2 className="mb-2">The message</h2>
          {t.message ? (
            <pre className="address overflow-x-auto rounded bg-sunk p-3">
              {typeof t.message.body === "object" ? JSON.stringify(t.message.body, null, 2) : bodyText(t.message)}
            </pre>
          ) : (
            <p className="text-soft">Its content is no longer kept.</p>
          )}
          {t.original && (
            <>
              <h3 className="mt-3 mb-1">Before it was edited</h3>
              <pre className="address overflow-x-auto rounded bg-sunk p-3 text-soft">
                {typeof t.original.body === "object" ? JSON.stringify(t.original.body, null, 2) : bodyText(t.original)}
              </pre>
            </>
          )}
        </section>
      </div>
    </>
  );
}
