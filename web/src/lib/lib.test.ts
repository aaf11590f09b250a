import { describe, expect, it } from "vitest";
import { ticks } from "../components/TideLine";
import { editText, parseEdit } from "./edits";
import { also, equals, fieldPath, fieldsOf } from "./condition";
import { scaleOf } from "./scale";
import { pageOf, parse, readerAddress } from "./address";
import { parseSize, quote, size, span } from "./format";
import { changesOf, isOf, textOf } from "./settings";
import { merge, Past } from "./live";
import { days, midnight, periods, typed } from "./position";
import { downstream, step, thickness, troubled } from "./chart";
import type { Group, Live, Setting, Channel, ChartOf, ChartThing } from "../api/client";

describe("conditions", () => {
  it("names fields as CEL does", () => {
    expect(fieldPath(["box"])).toBe("body.box");
    expect(fieldPath(["a", 0, "x-y"])).toBe('body.a[0]["x-y"]');
  });
  it("adds parts once, and keeps what was meant", () => {
    const part = equals("body.box", 'a"b');
    expect(part).toBe('body.box == "a\\"b"');
    expect(also("", part)).toBe(part);
    expect(also("size > 3", part)).toBe(`size > 3 && ${part}`);
    expect(also(`size > 3 && ${part}`, part)).toBe(`size > 3 && ${part}`);
    expect(also("a || b", "c")).toBe("(a || b) && c");
  });
  it("finds the fields of bodies", () => {
    expect(fieldsOf([{ a: 1, at: { lat: 2 } }, "text", null, { b: [1] }])).toEqual([
      "body.a",
      "body.at",
      "body.at.lat",
      "body.b",
    ]);
  });
});

describe("edits", () => {
  it("are read as they are written", () => {
    for (const text of ["set /celsius=4.5", 'set /unit="C"', "compute /box=key", "remove /x", "rename /a=/b"]) {
      expect(editText(parseEdit(text))).toBe(text);
    }
    expect(parseEdit("set header.unit=Celsius")).toEqual({ op: "set", at: "header.unit", value: "Celsius" });
    expect(() => parseEdit("put /x=1")).toThrow("begins with none of");
    expect(() => parseEdit("set /x")).toThrow("no =");
  });
});

describe("figures", () => {
  it("have their units", () => {
    expect([0, 1023, 1024, 10 * 2 ** 30, 1.5 * 2 ** 20].map(size)).toEqual(["0 B", "1023 B", "1.0 KiB", "10.0 GiB", "1.5 MiB"]);
    expect([500, 61_000, 5_400_000, 90_000_000].map(span)).toEqual(["0 s", "1 min", "1 h 30 min", "1 d 1 h"]);
    expect(["10GiB", "500MB", "42", "ten"].map(parseSize)).toEqual([10 * 2 ** 30, 500e6, 42, undefined]);
  });
});

describe("addresses", () => {
  it("lead to pages", () => {
    expect(pageOf("coldchain")).toBe("/channels?space=coldchain");
    expect(pageOf("coldchain/readings")).toBe("/channels/coldchain/readings");
    expect(pageOf("coldchain/readings#3")).toBe("/channels/coldchain/readings?partition=3");
    expect(pageOf("coldchain/readings#3:1200")).toContain("open=3:1200");
    expect(pageOf("coldchain/inspections/dead")).toBe("/dead/coldchain/inspections");
    expect(pageOf("coldchain/readings@compliance/dead")).toBe("/dead/coldchain/readings@compliance");
    expect(pageOf("coldchain/readings@compliance#0:7")).toBe("/trace/coldchain/readings@compliance/0:7");
    expect(pageOf("coldchain/readings@compliance")).toBe("/groups/coldchain/readings/compliance");
    expect(pageOf("coldchain/inspections/dead@archive")).toBe("/groups/coldchain/inspections/dead@archive");
    expect(pageOf("coldchain/readings@warm/dead@archive")).toBe("/groups/coldchain/readings/warm%2Fdead@archive");
    expect(pageOf("coldchain/inspections/dead@archive/dead")).toBe("/dead/coldchain/inspections%2Fdead@archive");
    expect(pageOf("coldchain/inspections/dead@archive#0:7")).toBe("/trace/coldchain/inspections%2Fdead@archive/0:7");
    expect(["Cold Chain", "a/b/dead@", "a/b/x", "a/b#1@g", "a/b/dead#1"].map((a) => pageOf(a))).toEqual(Array(5).fill(undefined));
  });
  it("have readers", () => {
    for (const [channel, reader, address] of [
      ["coldchain/readings", "warm", "coldchain/readings@warm"],
      ["coldchain/inspections", "dead@archive", "coldchain/inspections/dead@archive"],
      ["coldchain/readings", "warm/dead@archive", "coldchain/readings@warm/dead@archive"],
    ] as const) {
      expect(readerAddress(channel, reader)).toBe(address);
      const a = parse(address)!;
      expect([`${a.space}/${a.channel}`, a.reader, a.dead]).toEqual([channel, reader, false]);
    }
  });
  it("are quoted for a shell when they must be", () => {
    expect(quote("coldchain/readings#3")).toBe("coldchain/readings#3");
    expect(quote(`it's`)).toBe(`'it'\\''s'`);
  });
});

describe("the ruler", () => {
  it("has round times", () => {
    const end = Date.parse("2026-11-23T08:00:30Z");
    const marks = ticks(end - 3600e3, end);
    expect(marks.length).toBeGreaterThan(2);
    expect(marks.length).toBeLessThanOrEqual(7);
    expect(marks.every((t) => t % 900e3 === 0)).toBe(true);
  });
});

describe("the scale of a chart", () => {
  const calm = Array.from({ length: 100 }, (_, i) => 20 + (i % 7));
  it("is that of all values when none is far off", () => {
    expect(scaleOf(calm)).toEqual({ top: 26, beyond: 0 });
    expect(scaleOf([])).toEqual({ top: 0, beyond: 0 });
    expect(scaleOf([0, 0, 5])).toEqual({ top: 5, beyond: 0 });
  });
  it("leaves out a few values that would flatten the rest, and says so", () => {
    expect(scaleOf([...calm, 12_000])).toEqual({ top: 32.5, beyond: 12_000 });
    expect(scaleOf([...calm, 12_000, 9000, 800])).toEqual({ top: 32.5, beyond: 12_000 });
  });
  it("shows what is not few", () => {
    expect(scaleOf([...calm, ...Array<number>(20).fill(900)]).beyond).toBe(0);
    expect(scaleOf([1, 1, 900]).beyond).toBe(0);
  });
});

describe("settings", () => {
  const row = (name: string, form: Setting["form"], flag = name): Setting => ({
    name,
    flag,
    form,
    kinds: [],
    label: name,
    allowed: "",
    fixed: false,
    default: "",
  });
  const rows = [
    row("partitionCount", "number", "partitions"),
    row("retainBytes", "size", "retain-bytes"),
    row("backoff", "durations"),
    row("paused", "switch"),
    row("hold", "names"),
    row("labels", "labels", "label"),
    row("description", "sentence"),
  ];
  it("shows values as text", () => {
    expect(textOf(rows[0]!, 6)).toBe("6");
    expect(textOf(rows[1]!, 10 * 2 ** 30)).toBe("10GiB");
    expect(textOf(rows[1]!, 1500)).toBe("1500B");
    expect(textOf(rows[1]!, 0)).toBe("");
    expect(textOf(rows[3]!, false)).toBe("false");
    expect(textOf(rows[4]!, ["a", "b"])).toBe("a, b");
    expect(textOf(rows[5]!, { team: "x", tier: "1" })).toBe("team=x, tier=1");
    expect(textOf(rows[6]!, undefined)).toBe("");
  });
  it("says only what differs, as JSON and as flags", () => {
    const was = {
      partitionCount: "6",
      retainBytes: "10GiB",
      paused: "false",
      hold: "a",
      labels: "team=x, tier=1",
      description: "",
    };
    expect(changesOf(rows, was, was)).toEqual({ settings: {}, flags: "" });
    expect(
      changesOf(rows, was, {
        partitionCount: "8",
        retainBytes: "1 GiB",
        backoff: "1s..5m",
        paused: "true",
        hold: "",
        labels: "team=y z",
        description: "it's cold",
      }),
    ).toEqual({
      settings: {
        partitionCount: 8,
        retainBytes: 2 ** 30,
        backoff: "1s..5m",
        paused: true,
        hold: [],
        labels: { team: "y z", tier: "" },
        description: "it's cold",
      },
      flags: `-partitions 8 -retain-bytes 1GiB -backoff 1s..5m -paused -hold none -label 'team=y z' -label tier= -description ${quote("it's cold")}`,
    });
  });
  it("leaves what is no value to the service", () => {
    const verbs = { ...rows[0]!, name: "verbs", flag: "verbs", form: "verbs" as const };
    expect(changesOf([verbs], {}, { verbs: "publish, lease" })).toEqual({
      settings: { verbs: ["publish", "lease"] },
      flags: "-verbs publish,lease",
    });
    expect(textOf(verbs, ["publish", "lease"])).toBe("publish, lease");
    const fields = { ...rows[0]!, name: "fields", flag: "fields", form: "fields" as const };
    expect(changesOf([fields], {}, { fields: "key, /box" })).toEqual({
      settings: { fields: ["key", "/box"] },
      flags: "-fields key,/box",
    });
    expect(changesOf(rows, {}, { partitionCount: "many", retainBytes: "much" }).settings).toEqual({
      partitionCount: "many",
      retainBytes: "much",
    });
    expect(isOf({ ...rows[0]!, kinds: ["queue"] }, "topic")).toBe(false);
  });

  it("knows columns and headers of endpoints as names with values", () => {
    const row = (name: string, flag: string) => ({ name, flag, form: name, kinds: [], fixed: false }) as unknown as Setting;
    const rows = [row("columns", "column"), row("headers", "header")];
    const was = Object.fromEntries(rows.map((r) => [r.name, textOf(r, { box: "key", celsius: "/celsius" })]));
    expect(was.columns).toBe("box=key, celsius=/celsius");
    expect(changesOf(rows, was, was).flags).toBe("");
    expect(changesOf(rows, was, { ...was, columns: "box=/box" })).toEqual({
      settings: { columns: { box: "/box", celsius: "" } },
      flags: "-column box=/box -column celsius=",
    });
  });
});

describe("live", () => {
  const topic = (address: string, messages = 0) => ({ address, messages, rates: {} }) as Channel;
  const group = (address: string, severity: number, lagSeconds = 0) => ({ address, severity, lagSeconds, lag: 0 }) as Group;
  const state = (channels: Channel[], groups: Group[] = [], whole = false, gone: string[] = []) =>
    ({ whole, gone, channels, groups, dead: [] }) as unknown as Live;

  it("puts what has changed into what was there", () => {
    const first = merge(undefined, state([topic("a/a"), topic("a/c", 1)], [group("a/a@x", 0)], true));
    const next = merge(first, state([topic("a/b"), topic("a/c", 2)]));
    expect(next.channels.map((t) => [t.address, t.messages])).toEqual([
      ["a/a", 0],
      ["a/b", 0],
      ["a/c", 2],
    ]);
    expect(next.channels[0]).toBe(first.channels[0]);
    expect(next.groups).toBe(first.groups);
    const same = merge(next, state([]));
    expect(same.channels).toBe(next.channels);
    expect(merge(next, state([], [], false, ["a/a", "a/a@x"]))).toMatchObject({
      channels: [{ address: "a/b" }, { address: "a/c" }],
      groups: [],
    });
    expect(merge(next, state([topic("z/z")], [], true)).channels).toHaveLength(1);
  });
  it("has the worst group first", () => {
    const first = merge(undefined, state([], [group("b@x", 5), group("a@x", 0)], true));
    const next = merge(first, state([], [group("a@x", 7), group("c@x", 5, 9)]));
    expect(next.groups.map((g) => g.address)).toEqual(["a@x", "c@x", "b@x"]);
  });
  it("keeps the last values of each", () => {
    const past = new Past<number>(3);
    [1, 2, 3, 4].forEach((n) => past.note("a", n));
    expect(past.of("a")).toEqual([2, 3, 4]);
    past.forget(["a"]);
    expect(past.of("a")).toEqual([]);
  });
});

describe("positions", () => {
  const now = new Date(2026, 10, 26, 10, 30);
  const at = (...parts: [number, number, number, number?, number?]) => `time:${new Date(...parts).toISOString()}`;
  it("are read as they are typed, in the zone of the browser", () => {
    expect(typed("today", now)).toBe(at(2026, 10, 26));
    expect(typed(" yesterday ", now)).toBe(at(2026, 10, 25));
    expect(typed("2026-11-26", now)).toBe(at(2026, 10, 26));
    expect(typed("2026-11-26 10:00", now)).toBe(at(2026, 10, 26, 10, 0));
    expect(typed("2026-11-26T08:00:00Z", now)).toBe("time:2026-11-26T08:00:00Z");
    expect(typed("1d12h", now)).toBe("ago:1d12h");
  });
  it("leave what they do not know to the service", () => {
    for (const text of ["first", "offset:3", "tomorrow", "2026-02-30", "last", ""]) expect(typed(text, now)).toBe(text);
  });
  it("come as periods, and as days with the whole of the last one", () => {
    const yesterday = periods(now)[2]!.period;
    expect(yesterday).toEqual({ from: at(2026, 10, 25), to: at(2026, 10, 26) });
    expect(days("2026-11-01", "2026-11-30")).toEqual({ from: at(2026, 10, 1), to: at(2026, 11, 1) });
    expect(midnight(now).getHours()).toBe(0);
  });
});

describe("pages of addresses by their kinds", () => {
  it("tells watches, chores and endpoints from channels", () => {
    expect(pageOf("coldchain/readings")).toBe("/channels/coldchain/readings");
    expect(pageOf("coldchain/nightly", "chore")).toBe("/timetable/coldchain/nightly");
    expect(pageOf("coldchain/dead-letters", "watch")).toBe("/watches/coldchain/dead-letters");
    expect(pageOf("coldchain/clinic-hook", "endpoint")).toBe("/endpoints/coldchain/clinic-hook");
    expect(pageOf("coldchain/readings@warm", "group")).toBe("/groups/coldchain/readings/warm");
  });
});

describe("moving on a chart", () => {
  const thing = (id: string, level = "calm") => ({ id, level }) as ChartThing;
  const chart = {
    things: [thing("box"), thing("readings"), thing("warm"), thing("forecast", "alarm"), thing("inspections", "warn")],
    links: [
      { from: "box", to: "readings", rate: 25 },
      { from: "readings", to: "warm", rate: 2 },
      { from: "readings", to: "forecast", rate: 0 },
      { from: "warm", to: "inspections", rate: 2 },
      { from: "inspections", to: "readings", rate: 0 },
    ],
  } as ChartOf;
  const at = {
    box: { x: 0, y: 0 },
    readings: { x: 200, y: 0 },
    warm: { x: 400, y: 0 },
    forecast: { x: 400, y: 60 },
    inspections: { x: 600, y: 0 },
  };
  const from = (id: string | undefined, key: string) => step(chart, at, id, key);
  it("goes from trouble to trouble, the worst first, and round", () => {
    expect(troubled(chart.things).map((t) => t.id)).toEqual(["forecast", "inspections"]);
    expect([from(undefined, "n"), from("forecast", "n"), from("inspections", "n"), from("box", "n")]).toEqual([
      "forecast",
      "inspections",
      "forecast",
      "forecast",
    ]);
  });
  it("finds what lies behind, also in a ring", () => {
    expect(downstream(chart, "box")).toEqual(["readings", "warm", "forecast", "inspections"]);
    expect(from("warm", "d")).toBe("inspections");
    expect(from("forecast", "d")).toBeUndefined();
  });
  it("goes along the ways, and to what is above and below", () => {
    expect(from(undefined, "ArrowRight")).toBe("box");
    expect(from("box", "ArrowRight")).toBe("readings");
    expect(from("readings", "ArrowRight")).toBe("warm");
    expect(from("warm", "ArrowDown")).toBe("forecast");
    expect(from("forecast", "ArrowUp")).toBe("warm");
    expect(from("warm", "ArrowLeft")).toBe("readings");
    expect(from("warm", "ArrowUp")).toBeUndefined();
  });
  it("draws more messages thicker", () => {
    expect(thickness(0)).toBe(1);
    expect(thickness(10)).toBeGreaterThan(thickness(1));
    expect(thickness(1e9)).toBe(8);
  });
});
