// Calls of the HTTP interface. The types are made from openapi.yaml.
import { parse } from "../lib/address";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Channel = Schemas["Channel"];
export type Space = Schemas["Space"];
export type Quota = Schemas["Quota"];
export type Invitation = Schemas["Invitation"];
export type Invited = Schemas["Invited"];
export type Second = Schemas["Second"];
export type Strength = Schemas["Strength"];
export type Partition = Schemas["Partition"];
export type Message = Schemas["Message"];
export type Event = Schemas["Event"];
export type Progress = Schemas["Progress"];
export type Flow = Schemas["Flow"];
export type Series = Schemas["Series"];
export type Measured = Schemas["Measured"];
export type Live = Schemas["Live"];
export type Found = Schemas["Found"];
export type Preview = Schemas["Preview"];
export type Settings = Schemas["Settings"];
export type Declaration = Schemas["Declaration"];
export type Drift = Schemas["Drift"];
export type Setting = Schemas["Setting"];
export type Published = Schemas["Published"];
export type ConditionCheck = Schemas["ConditionCheck"];
export type LogbookEntry = Schemas["LogbookEntry"];
export type Cluster = Schemas["Cluster"];
export type Node = Schemas["Node"];
export type Replica = Schemas["Replica"];
export type LeaderChange = Schemas["LeaderChange"];
export type SetAside = Schemas["SetAside"];
export type WhatIf = Schemas["WhatIf"];
export type Job = Schemas["Job"];
export type Endpoint = Schemas["Endpoint"];
export type Watch = Schemas["Watch"];
export type Watched = Schemas["Watched"];
export type WatchValue = Schemas["WatchValue"];
export type WatchTrial = Schemas["WatchTrial"];
export type Outlook = Schemas["Outlook"];
export type Foreseen = Schemas["Foreseen"];
export type Going = Schemas["Going"];
export type ChartOf = Schemas["Chart"];
export type ChartThing = Schemas["ChartThing"];
export type Chore = Schemas["Chore"];
export type Run = Schemas["Run"];
export type Incident = Schemas["Incident"];
export type IncidentStory = Schemas["IncidentStory"];
export type EndpointAnswer = Schemas["EndpointAnswer"];
export type TableStatements = Schemas["TableStatements"];
export type HappenedAt = Schemas["HappenedAt"];
export type Group = Schemas["Group"];
export type PartitionLag = Schemas["PartitionLag"];
export type LagSample = Schemas["LagSample"];
export type SeekResult = Schemas["SeekResult"];
export type SeekStep = Schemas["SeekStep"];
export type PastSeek = Schemas["PastSeek"];
export type RouteTrial = Schemas["RouteTrial"];
export type RouteWork = Schemas["RouteWork"];
export type TrialSample = Schemas["TrialSample"];
export type QueueState = Schemas["QueueState"];
export type QueueMessage = Schemas["QueueMessage"];
export type DeadLetters = Schemas["DeadLetters"];
export type DeadCause = Schemas["DeadCause"];
export type Edit = Schemas["Edit"];
export type QueueAction = Schemas["QueueAction"];
export type QueueActionResult = Schemas["QueueActionResult"];
export type ActionSample = Schemas["ActionSample"];
export type Replay = Schemas["Replay"];
export type NewReplay = Schemas["NewReplay"];
export type Trace = Schemas["Trace"];
export type Principal = Schemas["Principal"];
export type Role = Schemas["Role"];
export type Grant = Schemas["Grant"];
export type Mask = Schemas["Mask"];
export type May = Schemas["May"];
export type Secret = Schemas["Secret"];
export type Token = Schemas["Token"];
export type Device = Schemas["Device"];
export type SignInWays = Schemas["SignInWays"];
export type SignIn = Schemas["SignIn"];
export type ProblemBody = Schemas["Problem"];

/** An error that the service explained. */
export class Problem extends Error {
  constructor(public body: ProblemBody) {
    super([body.detail, body.allowed && `allowed: ${body.allowed}`, body.next].filter(Boolean).join("; "));
  }
}

/** What to show of anything that was thrown. */
export function explain(error: unknown): string {
  if (error instanceof Problem) return error.message;
  return "The service does not answer. It may be starting; this page tries again.";
}

let again: (() => Promise<boolean>) | undefined;
/** Who asks to sign in again when a step takes a session that was begun lately; true: it was done. */
export function onSignInAgain(f: () => Promise<boolean>) {
  again = f;
  return () => void (again = undefined);
}

const signedOut = new Set<() => void>();
/** Calls back when a request finds that the session has ended. */
export function onSignedOut(f: () => void) {
  signedOut.add(f);
  return () => void signedOut.delete(f);
}

export async function send(
  method: string,
  path: string,
  body?: BodyInit,
  headers: Record<string, string> = {},
  signal?: AbortSignal,
): Promise<Response> {
  const response = await fetch("/api/v1" + path, { method, body, headers, signal, credentials: "same-origin" });
  if (response.ok) return response;
  const problem = (await response
    .json()
    .catch(() => ({ status: response.status, detail: `the service answered ${response.status}` }))) as ProblemBody;
  if (problem.type === "urn:steady-ferry:problem:sign-in-again" && again && (await again()))
    return send(method, path, body, headers, signal);
  if (response.status === 401 && path !== "/session" && !path.startsWith("/sign-in/")) signedOut.forEach((f) => f());
  throw new Problem(problem);
}

export async function call<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  const response = await send(
    method,
    path,
    body === undefined ? undefined : JSON.stringify(body),
    body === undefined ? {} : { "Content-Type": "application/json" },
    signal,
  );
  return (response.status === 204 ? undefined : await response.json()) as T;
}

export const get = <T>(path: string) => call<T>("GET", path);

/** The path of a channel's address, such as coldchain/readings, or of the queue with a reader's dead letters. */
export function channelPath(address: string) {
  const slash = address.indexOf("/");
  return `/channels/${encodeURIComponent(address.slice(0, slash))}/${encodeURIComponent(address.slice(slash + 1))}`;
}

/** The path of the address of a group or a route, such as coldchain/readings@compliance. */
export function groupPath(address: string) {
  const a = parse(address);
  return `${channelPath(`${a?.space}/${a?.channel}`)}/groups/${encodeURIComponent(a?.reader ?? "")}`;
}

/** Reads a stream of JSON lines until it ends or the signal aborts it. */
export async function lines<T>(path: string, signal: AbortSignal, each: (values: T[]) => void) {
  const response = await send("GET", path, undefined, {}, signal);
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const parts = (rest + value).split("\n");
    rest = parts.pop() ?? "";
    const values = parts.filter(Boolean).map((line) => JSON.parse(line) as T);
    if (values.length > 0) each(values);
  }
}

/** The path of a queue, or of the queue with a group's dead letters. */
export const queuePath = (address: string) => channelPath(address.replace(/\/dead$/, "").replace(/#.*$/, ""));
