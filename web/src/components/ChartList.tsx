import type { ChartOf, ChartThing } from "../api/client";
import { troubled } from "../lib/chart";
import { rate } from "../lib/format";
import { Mark } from "./Mark";
import { type Column, Timetable } from "./Timetable";

/** The same as the drawing, as a list: what is in trouble first, with what goes in and out. */
export function ChartList({ chart, onOpen }: { chart: ChartOf; onOpen: (id: string) => void }) {
  const bad = troubled(chart.things);
  const rows = [...bad, ...chart.things.filter((t) => t.level === "calm")];
  const names = (ids: string[]) =>
    ids.length === 0 ? "–" : ids.map((id) => chart.things.find((t) => t.id === id)?.name ?? id).join(", ");
  const columns: Column<ChartThing>[] = [
    {
      key: "name",
      title: "Thing",
      show: (t) => (
        <button className="address text-left break-all text-sea hover:underline" onClick={() => onOpen(t.id)}>
          {t.folded ? t.name : t.id.replace(/^[a-z]+:/, "")}
        </button>
      ),
    },
    { key: "kind", title: "Kind", wide: true, show: (t) => t.kind },
    { key: "state", title: "State", show: (t) => <Mark state={t.level === "calm" ? t.state : t.level} /> },
    { key: "rate", title: "Rate", figures: true, show: (t) => (t.rate > 0 ? `${rate(t.rate)}/s` : "–") },
    {
      key: "from",
      title: "Comes from",
      wide: true,
      show: (t) => names(chart.links.filter((l) => l.to === t.id).map((l) => l.from)),
    },
    { key: "to", title: "Goes to", wide: true, show: (t) => names(chart.links.filter((l) => l.from === t.id).map((l) => l.to)) },
    { key: "says", title: "How it is", wide: true, show: (t) => t.says },
  ];
  return <Timetable label="How it hangs together" columns={columns} rows={rows} rowKey={(t) => t.id} />;
}
