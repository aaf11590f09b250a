import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { explain, get, type ChartOf } from "../api/client";
import { useSpacesOnceKnown } from "../components/AddressFields";
import { ChartDrawing } from "../components/ChartDrawing";
import { ChartList } from "../components/ChartList";
import { ChartPanel } from "../components/ChartPanel";
import { Command } from "../components/Copy";
import { Mark } from "../components/Mark";
import { Notice } from "../components/Panel";
import { Nothing } from "../components/Part";
import { troubled } from "../lib/chart";
import { clock, many } from "../lib/format";
import { useUrlState } from "../lib/url";

const spans = { "1h": 60, "1d": 24 * 60, "7d": 7 * 24 * 60, "30d": 30 * 24 * 60 };
const isPhone = () => window.matchMedia("(max-width: 48rem)").matches;

/** How things hang together: a chart of who publishes, reads and routes, with its trouble spots, now or then. */
export function Hanging() {
  const [params, change] = useUrlState();
  const known = useSpacesOnceKnown();
  const spaces = known ?? [];
  const [chosen, setChosen] = useState(params.get("open") ?? undefined);
  const space = params.get("space") ?? spaces[0] ?? "";
  const around = params.get("around") ?? "";
  const steps = params.get("steps") ?? "2";
  const at = params.get("at") ?? "";
  const unfolded = params.get("unfold")?.split(" ").filter(Boolean) ?? [];
  const asList = (params.get("as") ?? (isPhone() ? "list" : "drawing")) === "list";
  const span = (params.get("past") ?? "1d") as keyof typeof spans;
  const scale = Number(params.get("scale") ?? "1");
  const query = new URLSearchParams({ space, ...(around && { around, steps }), ...(at && { at }) });
  unfolded.forEach((id) => query.append("open", id));
  const whole = useQuery({
    queryKey: ["chart", query.toString()],
    queryFn: () => get<ChartOf>(`/chart?${query}`),
    enabled: space !== "",
    refetchInterval: at ? false : 3000,
    placeholderData: (old) => old,
  });
  const chart = whole.data;
  const open = chart?.things.find((t) => t.id === params.get("open"));
  const bad = chart ? troubled(chart.things) : [];
  const show = (id: string) => {
    setChosen(id);
    change({ open: id });
  };
  if (known?.length === 0)
    return (
      <>
        <h1 className="mb-1">How it hangs together</h1>
        <Nothing what="space">
          <Notice title="There are no spaces yet.">
            <Command text="ferry new space coldchain" />
          </Notice>
        </Nothing>
      </>
    );
  const minutes = at ? Math.round((Date.now() - Date.parse(at)) / 60_000) : 0;
  const back = (ago: number) =>
    change({
      at: ago <= 0 ? "" : new Date(Math.floor((Date.now() - ago * 60_000) / 10_000) * 10_000).toISOString().replace(".000Z", "Z"),
    });
  return (
    <>
      <div className="mb-3 flex flex-wrap items-end gap-x-4 gap-y-2">
        <h1 className="mr-auto">How it hangs together</h1>
        <label className="block">
          <span className="label">Space</span>
          <select
            className="field address"
            value={space}
            onChange={(e) => change({ space: e.target.value, around: "", open: "" })}
          >
            {spaces.map((s) => (
              <option key={s}>{s}</option>
            ))}
          </select>
        </label>
        {around && (
          <label className="block">
            <span className="label">Around {around}, links away</span>
            <span className="flex gap-2">
              <input
                className="field w-20"
                type="number"
                min={1}
                max={12}
                value={steps}
                onChange={(e) => change({ steps: e.target.value })}
              />
              <button className="button" onClick={() => change({ around: "" })}>
                The whole
              </button>
            </span>
          </label>
        )}
        <div className="flex gap-2" role="group" aria-label="Shown as">
          {["drawing", "list"].map((as) => (
            <button key={as} className="button" aria-pressed={(as === "list") === asList} onClick={() => change({ as })}>
              {as === "list" ? "List" : "Drawing"}
            </button>
          ))}
          {!asList && (
            <>
              <button
                className="button"
                aria-label="Smaller"
                onClick={() => change({ scale: String(Math.max(scale * 0.8, 0.3).toFixed(2)) })}
              >
                −
              </button>
              <button
                className="button"
                aria-label="Larger"
                onClick={() => change({ scale: String(Math.min(scale * 1.25, 2).toFixed(2)) })}
              >
                +
              </button>
            </>
          )}
        </div>
      </div>
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        {chart && (
          <Mark
            state={bad.length === 0 ? "ready" : bad[0]!.level}
            word={bad.length === 0 ? "nothing is out of order" : `${many(bad.length, "trouble spot")}, first ${bad[0]!.id}`}
          />
        )}
        {bad.length > 0 && (
          <button className="button" onClick={() => show(bad[(bad.findIndex((t) => t.id === chosen) + 1) % bad.length]!.id)}>
            Next trouble
          </button>
        )}
        <label className="ml-auto flex min-w-64 flex-1 items-center gap-3">
          <span className="label whitespace-nowrap">{at ? `as it was ${clock(at, false)}` : "as it is now"}</span>
          <input
            className="min-w-24 flex-1"
            type="range"
            aria-label="Minutes before now"
            min={-spans[span]}
            max={0}
            step={Math.max(spans[span] / 1440, 1)}
            value={-minutes}
            onChange={(e) => back(-Number(e.target.value))}
          />
        </label>
        <select
          className="field w-auto"
          aria-label="How far back"
          value={span}
          onChange={(e) => change({ past: e.target.value })}
        >
          {Object.keys(spans).map((s) => (
            <option key={s} value={s}>
              {s} back
            </option>
          ))}
        </select>
        <button className="button" disabled={!at} onClick={() => change({ at: "" })}>
          Now
        </button>
      </div>
      {whole.error && !chart && <Notice mark={<Mark state="attention" word="" />} title={explain(whole.error)} />}
      {whole.error && chart && <p className="mb-2 text-attention">{explain(whole.error)}</p>}
      {chart && chart.things.length === 0 && (
        <Notice title="Nothing hangs together here yet.">
          <p>Channels, their readers and routes are drawn as soon as there are any.</p>
          <Command text={`ferry new topic ${space}/readings`} />
        </Notice>
      )}
      {chart &&
        chart.things.length > 0 &&
        (asList ? (
          <ChartList chart={chart} onOpen={show} />
        ) : (
          <ChartDrawing chart={chart} chosen={chosen} scale={scale} onChoose={setChosen} onOpen={show} />
        ))}
      {chart && chart.whole > chart.things.length && (
        <p className="mt-2 text-[length:var(--text-small)] text-soft">
          {many(chart.whole, "thing")}; like ones that are in order are drawn as one.
        </p>
      )}
      {open && (
        <ChartPanel
          key={open.id}
          thing={open}
          onClose={() => change({ open: "" })}
          onAround={(id) => change({ around: id, open: "" })}
          onUnfold={(id) => change({ unfold: [...unfolded, id].join(" "), open: "" })}
        />
      )}
    </>
  );
}
