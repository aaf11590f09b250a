import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { call, explain, type WatchTrial as Trial } from "../api/client";
import { pageOf } from "../lib/address";
import { many } from "../lib/format";
import { Curve, figureText } from "./Curve";
import { Mark } from "./Mark";

const spans = { "1d": "day", "7d": "week", "30d": "30 days" };

/** A value that stays as it is while somebody still moves it. */
function useSettled<T>(value: T, ms: number): T {
  const [settled, setSettled] = useState(value);
  const key = JSON.stringify(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), ms);
    return () => clearTimeout(timer);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- compared by what it says
  }, [key, ms]);
  return settled;
}

const step = (most: number) => (most > 50 ? Math.max(1, Math.round(most / 200)) : most > 5 ? 0.1 : 0.01);

/** A level as text, from a figure of a slider. */
const levelText = (x: number, unit: string) =>
  unit === "s" ? `${Math.round(x)}s` : unit === "B" ? `${Math.round(x)}B` : String(Math.round(x * 100) / 100);

/** What a watch with these settings would have said of the past; the levels can be moved. */
export function WatchTrial({
  address,
  settings,
  onLevel,
}: {
  address: string;
  settings: Record<string, unknown>;
  onLevel: (name: "warn" | "alarm", level: string) => void;
}) {
  const [past, setPast] = useState<keyof typeof spans>("7d");
  const asked = useSettled(settings, 150);
  const trial = useQuery({
    queryKey: ["trial", address, asked, past],
    queryFn: () => call<Trial>("POST", `/watches/trials?span=${past}`, { address, ...asked }),
    placeholderData: (old) => old,
    retry: false,
    enabled: Boolean(asked.of && asked.value && (asked.warn || asked.alarm)),
  });
  const t = trial.data;
  const most =
    Math.max(...(t?.each.flatMap((e) => e.curve.figures.map((f) => f ?? 0)) ?? []), t?.warn ?? 0, t?.alarm ?? 0, 1) * 1.2;
  return (
    <section aria-label="Tried on the past" className="space-y-2">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h3 className="font-semibold">Tried on the past</h3>
        <span className="flex gap-3 text-[length:var(--text-small)]">
          {Object.entries(spans).map(([key, name]) => (
            <button
              key={key}
              type="button"
              className={key === past ? "font-semibold" : "text-sea hover:underline"}
              aria-pressed={key === past}
              onClick={() => setPast(key as keyof typeof spans)}
            >
              last {name}
            </button>
          ))}
        </span>
      </div>
      {trial.error ? (
        <p className="text-soft" role="status">
          {explain(trial.error)}
        </p>
      ) : !t ? (
        <p className="text-soft">Say what is watched, which value of it, and a level.</p>
      ) : (
        <>
          <p role="status">
            <Mark
              state={t.alarms > 0 ? "alarm" : t.rang > 0 ? "warn" : "calm"}
              word={
                t.rang === 0
                  ? "it would not have rung"
                  : `it would have rung ${many(t.rang, "time")}, ${t.alarms === 0 ? "no alarm" : `${t.alarms} of them alarms`}`
              }
            />{" "}
            <span className="text-soft">
              for {figureText(t.seconds, "s")} in all, over {t.tried < t.things ? `${t.tried} of ` : ""}
              {many(t.things, "thing")}
            </span>
          </p>
          <div className="grid gap-x-6 gap-y-1 sm:grid-cols-2">
            {(["warn", "alarm"] as const).map((name) => {
              const now = t[name];
              return (
                <label key={name} className="block">
                  <span className="label">
                    {name === "warn" ? "Warns" : "Alarms"} at {figureText(now, t.unit)}
                    {t.proposed[name] && (
                      <>
                        {" · "}
                        <button
                          type="button"
                          className="text-sea hover:underline"
                          onClick={() => onLevel(name, t.proposed[name])}
                        >
                          the past proposes {t.proposed[name]}
                        </button>
                      </>
                    )}
                  </span>
                  <input
                    type="range"
                    className="w-full accent-(--sea)"
                    min={0}
                    max={most}
                    step={step(most)}
                    value={now ?? 0}
                    onChange={(e) => onLevel(name, levelText(Number(e.target.value), t.unit))}
                  />
                </label>
              );
            })}
          </div>
          {t.each.slice(0, 5).map((e) => (
            <div key={e.address}>
              <p className="text-[length:var(--text-small)]">
                <Link className="address" to={pageOf(e.address) ?? "/nodes"}>
                  {e.address}
                </Link>{" "}
                <span className="text-soft">
                  {e.rang === 0 ? "never" : `${many(e.rang, "time")}, ${figureText(e.seconds, "s")} in all`}
                </span>
              </p>
              <Curve
                curve={e.curve}
                unit={t.unit}
                warn={t.warn}
                alarm={t.alarm}
                crossings={e.crossings}
                label={String(asked.value)}
              />
            </div>
          ))}
          {t.each.length > 5 && <p className="text-soft">and {many(t.each.length - 5, "thing")} more, less loud</p>}
        </>
      )}
    </section>
  );
}
