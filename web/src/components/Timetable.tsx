import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useLayoutEffect, useRef, useState } from "react";

/** A column of a table of T. */
export type Column<T> = {
  key: string;
  title: string;
  figures?: boolean; // aligned to the right
  wide?: boolean; // left out where there is little room
  className?: string; // of its cells
  hidden?: boolean; // its title is for screen readers alone
  sort?: (row: T) => number | string;
  show: (row: T) => React.ReactNode;
};

export type Sort = { key: string; down: boolean; change: (key: string, down: boolean) => void };

const rowHeight = 32; // about, until a row has been drawn
const drawnAtOnce = 100; // tables with more rows draw those that can be seen

const classOf = <T,>(c: Column<T>, more?: string) =>
  [c.figures && "figures", c.wide && "max-md:hidden", more].filter(Boolean).join(" ") || undefined;

/** Rows in the order of a column. */
export function sorted<T>(rows: T[], columns: Column<T>[], sort: Pick<Sort, "key" | "down">): T[] {
  const by = columns.find((c) => c.key === sort.key)?.sort;
  if (!by) return rows;
  const keyed = rows.map((row) => [by(row), row] as const);
  keyed.sort(([a], [b]) => {
    const order = typeof a === "number" ? a - (b as number) : a < b ? -1 : a > b ? 1 : 0;
    return sort.down ? -order : order;
  });
  return keyed.map(([, row]) => row);
}

function Heading<T>({ column, sort }: { column: Column<T>; sort?: Sort }) {
  const chosen = sort?.key === column.key;
  if (!sort || !column.sort)
    return (
      <th scope="col" className={classOf(column)}>
        {column.hidden ? <span className="sr-only">{column.title}</span> : column.title}
      </th>
    );
  return (
    <th scope="col" className={classOf(column)} aria-sort={chosen ? (sort.down ? "descending" : "ascending") : "none"}>
      <button
        type="button"
        className="font-semibold hover:text-ink"
        onClick={() => sort.change(column.key, chosen && !sort.down)}
      >
        {column.title}
        <span aria-hidden="true">{chosen ? (sort.down ? " ↓" : " ↑") : ""}</span>
      </button>
    </th>
  );
}

/** A table. Of many rows only those are drawn that can be seen. */
export function Timetable<T>({
  label,
  columns,
  rows,
  rowKey,
  sort,
}: {
  label: string;
  columns: Column<T>[];
  rows: T[];
  rowKey: (row: T) => string | number;
  sort?: Sort;
}) {
  const body = useRef<HTMLTableSectionElement>(null);
  const [top, setTop] = useState(0);
  const many = rows.length > drawnAtOnce;
  const virtual = useWindowVirtualizer({
    count: rows.length,
    enabled: many,
    estimateSize: () => rowHeight,
    overscan: 15,
    scrollMargin: top,
    getItemKey: (i) => rowKey(rows[i]!),
  });
  useLayoutEffect(() => {
    if (body.current) setTop(body.current.getBoundingClientRect().top + window.scrollY);
  }, [many]);
  const drawn = virtual.getVirtualItems();
  const before = many && drawn[0] ? drawn[0].start - top : 0;
  const after = many && drawn.length > 0 ? virtual.getTotalSize() - (drawn[drawn.length - 1]!.end - top) : 0;
  const row = (item: T, index?: number) => (
    <tr
      key={rowKey(item)}
      data-index={index}
      ref={index === undefined ? undefined : virtual.measureElement}
      aria-rowindex={index === undefined ? undefined : index + 2}
    >
      {columns.map((c) => (
        <td key={c.key} className={classOf(c, c.className)}>
          {c.show(item)}
        </td>
      ))}
    </tr>
  );
  const gap = (height: number) =>
    height > 0 && (
      <tr aria-hidden="true" style={{ height }}>
        <td colSpan={columns.length} />
      </tr>
    );
  return (
    <div className="relative overflow-x-auto" role="region" aria-label={label} tabIndex={0}>
      <table className="timetable" aria-rowcount={many ? rows.length + 1 : undefined}>
        <thead>
          <tr>
            {columns.map((c) => (
              <Heading key={c.key} column={c} sort={sort} />
            ))}
          </tr>
        </thead>
        <tbody ref={body}>
          {gap(before)}
          {many ? drawn.map((v) => row(rows[v.index]!, v.index)) : rows.map((r) => row(r))}
          {gap(after)}
        </tbody>
      </table>
    </div>
  );
}
