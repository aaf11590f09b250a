import { Plus } from "lucide-react";
import { useMemo } from "react";
import { useUrlState } from "../lib/url";
import { Mark } from "./Mark";
import { Notice } from "./Panel";
import { May, Nothing } from "./Part";
import { type Column, sorted, Timetable } from "./Timetable";

/** Opens the dialog for a new thing. */
export const MakeButton = ({ name, open }: { name: string; open: () => void }) => (
  <button className="button" data-main onClick={open}>
    <Plus size={16} aria-hidden /> {name}
  </button>
);

/** A page that lists things: with a filter and an order that are kept in its URL,
 *  and something to say while they come, when there are none, and when none matches. */
export function ListPage<T>({
  title,
  note,
  what,
  verb,
  rows,
  failed,
  columns,
  order,
  rowKey,
  text,
  placeholder,
  maker,
  tools,
  above,
  empty,
  below,
}: {
  title: string;
  note?: string;
  what: string; // one of them, in a sentence: No channel fits
  verb?: string; // that it takes to see them, if not see-counts
  rows: T[] | undefined; // undefined while they come
  failed?: string;
  columns: Column<T>[];
  order?: string; // column that they are sorted by at first; without one they stay as they come
  rowKey: (row: T) => string | number;
  text: (row: T) => string; // that the filter looks through; the same function at each drawing
  placeholder: string;
  maker?: { verb: string; name: string; open: () => void }; // of a new one, for who may
  tools?: React.ReactNode;
  above?: React.ReactNode;
  empty: React.ReactNode;
  below?: React.ReactNode;
}) {
  const [params, change] = useUrlState();
  const filter = params.get("filter") ?? "";
  const key = params.get("sort") ?? order ?? "";
  const down = params.get("down") === "1";
  const shown = useMemo(() => {
    const wanted = filter.toLowerCase();
    const fit = wanted ? (rows ?? []).filter((r) => text(r).toLowerCase().includes(wanted)) : (rows ?? []);
    return sorted(fit, columns, { key, down });
  }, [rows, filter, key, down, text, columns]);
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className={note ? "" : "mr-auto"}>{title}</h1>
        {note && <p className="mr-auto text-soft">{note}</p>}
        {rows && (rows.length > 0 || filter) && (
          <input
            className="field w-60"
            type="search"
            placeholder={placeholder}
            aria-label="Filter"
            value={filter}
            onChange={(e) => change({ filter: e.target.value })}
          />
        )}
        {tools}
        {maker && (
          <May verb={maker.verb}>
            <MakeButton {...maker} />
          </May>
        )}
      </div>
      {above}
      {failed && <Notice mark={<Mark state="attention" word="" />} title={failed} />}
      {!rows && !failed && <Notice title="Waiting for the first figures" />}
      {rows && rows.length === 0 && !failed && (
        <Nothing verb={verb} what={what}>
          {empty}
        </Nothing>
      )}
      {rows && rows.length > 0 && (
        <Timetable
          label={title}
          columns={columns}
          rows={shown}
          rowKey={rowKey}
          sort={order ? { key, down, change: (sort, down) => change({ sort, down: down ? "1" : "" }) } : undefined}
        />
      )}
      {rows && rows.length > 0 && shown.length === 0 && (
        <p className="py-6 text-soft">
          No {what} matches “{filter}”.
        </p>
      )}
      {below}
    </>
  );
}
