// The pages that are opened now and then.
export { AccessPage } from "./Access";
export { ChorePage } from "./Chore";
export { Chores } from "./Chores";
export { DevicePage } from "./Device";
export { DriftPage } from "./Drift";
export { EndpointPage } from "./Endpoint";
export { Endpoints } from "./Endpoints";
export { IncidentPage } from "./Incident";
export { Incidents } from "./Incidents";
export { NodesPage } from "./Nodes";
export { ReplaysPage } from "./Replays";
export { SpacePage } from "./Space";
export { TracePage } from "./Trace";
export { WatchPage } from "./Watch";
export { Watches } from "./Watches";
