import { useQuery } from "@tanstack/react-query";
import { get, type SetAside as Aside } from "../api/client";
import { clock, size } from "../lib/format";
import { Command } from "./Copy";
import { Mark } from "./Mark";

/** Logs that no record knows, when there are any, and what can be done about them. */
export function SetAside() {
  const list = useQuery({
    queryKey: ["set-aside"],
    queryFn: () => get<{ items: Aside[] }>("/set-aside"),
    refetchInterval: 10_000,
  });
  const items = list.data?.items ?? [];
  if (items.length === 0) return null;
  return (
    <section className="mb-6" aria-label="Set aside">
      <h2 className="mb-1 flex flex-wrap gap-x-3">
        Set aside <Mark wrap state="attention" word="the catalog does not know these logs" />
      </h2>
      <p className="mb-2 text-soft">
        Such as after an older catalog was restored. They come back by themselves when the catalog knows them again.
      </p>
      <div className="overflow-x-auto" role="region" aria-label="Logs set aside" tabIndex={0}>
        <table className="timetable">
          <thead>
            <tr>
              <th scope="col">Was</th>
              <th scope="col">Kind</th>
              <th scope="col">Node</th>
              <th scope="col" className="figures">
                Size
              </th>
              <th scope="col">Deleted after</th>
              <th scope="col">Id</th>
            </tr>
          </thead>
          <tbody>
            {items.map((a) => (
              <tr key={a.id + a.node}>
                <td className="address">{a.address || "not known"}</td>
                <td>{a.kind}</td>
                <td>{a.node}</td>
                <td className="figures">{size(a.bytes)}</td>
                <td className="whitespace-nowrap">{clock(a.until, false)}</td>
                <td className="address">{a.id}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div className="mt-2">
        <Command text={`ferry nodes adopt ${items[0]!.id} -as ${items[0]!.address || "SPACE/NAME"}`} />
      </div>
    </section>
  );
}
