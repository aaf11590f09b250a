import { Link } from "react-router";
import type { Topic } from "../api/client";
import { Berths, berthsOf, lacks, ReplicaLegend, ReplicaMark } from "../components/Berths";
import { Mark } from "../components/Mark";
import { ago, count, rate, size } from "../lib/format";

export function Partitions({ topic }: { topic: Topic }) {
  const most = Math.max(...(topic.partitions ?? []).map((p) => p.messages), 1);
  const partitions = topic.partitions ?? [];
  const nodes = [...new Set(partitions.flatMap((p) => p.replicas.map((r) => r.node)))].sort();
  return (
    <>
      {nodes.length > 1 && (
        <section className="mb-5">
          <h2 className="mb-1">Who leads and who follows</h2>
          <Berths nodes={nodes} berths={berthsOf(partitions)} />
          <div className="mt-2">
            <ReplicaLegend states={["leads", "in step", "catching up", "behind", "joining", "lost"]} />
          </div>
        </section>
      )}
      <div className="relative overflow-x-auto" role="region" aria-label="Partitions" tabIndex={0}>
        <table className="timetable">
          <thead>
            <tr>
              <th scope="col">Partition</th>
              <th scope="col">State</th>
              <th scope="col">Leader</th>
              <th scope="col">Other replicas</th>
              <th scope="col" className="figures">
                First
              </th>
              <th scope="col" className="figures">
                End
              </th>
              <th scope="col" className="figures">
                Kept
              </th>
              <th scope="col">Share</th>
              <th scope="col" className="figures">
                On disk
              </th>
              <th scope="col" className="figures">
                Oldest
              </th>
              <th scope="col" className="figures">
                In, per second
              </th>
              <th scope="col" className="figures">
                Out, per second
              </th>
            </tr>
          </thead>
          <tbody>
            {topic.partitions?.map((p) => (
              <tr key={p.partition}>
                <td>
                  <Link className="address" to={`/channels/${topic.address}?partition=${p.partition}`}>
                    #{p.partition}
                  </Link>
                </td>
                <td>
                  <Mark state={p.state} />
                </td>
                <td className="whitespace-nowrap">{p.leader || "–"}</td>
                <td>
                  <span className="flex flex-wrap gap-x-3">
                    {p.replicas
                      .filter((r) => r.state !== "leads")
                      .map((r) => (
                        <span key={r.node} className="inline-flex items-center gap-1 whitespace-nowrap">
                          <ReplicaMark state={r.state} />
                          {r.node}{" "}
                          <span className="text-[length:var(--text-small)] text-soft">
                            {r.state === "in step" ? "" : r.state}
                          </span>
                          {lacks(r) && r.state !== "in step" && (
                            <span className="text-[length:var(--text-small)] text-soft">{lacks(r)}</span>
                          )}
                        </span>
                      ))}
                    {p.replicas.length < 2 && <span className="text-soft">none</span>}
                  </span>
                </td>
                <td className="figures">{count(p.first)}</td>
                <td className="figures">{count(p.end)}</td>
                <td className="figures">{count(p.messages)}</td>
                <td className="w-32">
                  <svg viewBox="0 0 100 6" preserveAspectRatio="none" className="h-1.5 w-full" aria-hidden="true">
                    <rect width="100" height="6" fill="var(--sunk)" />
                    <rect width={(p.messages / most) * 100} height="6" fill="var(--sea)" />
                  </svg>
                </td>
                <td className="figures">{size(p.bytes)}</td>
                <td className="figures">{ago(p.oldest)}</td>
                <td className="figures">{rate(p.rates.messagesIn)}</td>
                <td className="figures">{rate(p.rates.messagesOut)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
