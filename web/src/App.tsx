import { useQueryClient } from "@tanstack/react-query";
import {
  Bell,
  BellOff,
  BookOpen,
  CalendarClock,
  FileDiff,
  Flag,
  KeyRound,
  LockKeyhole,
  LogOut,
  MailX,
  Moon,
  Plug,
  Repeat,
  Server,
  Siren,
  Sun,
  Waves,
  Waypoints,
} from "lucide-react";
import { lazy, Suspense, useEffect, useState } from "react";
import { BrowserRouter, Link, Navigate, NavLink, Route, Routes } from "react-router";
import { Toaster } from "sonner";
import { call, onSignedOut } from "./api/client";
import { useLive } from "./api/live";
import { AddressBox } from "./components/AddressBox";
import { Mark } from "./components/Mark";
import { PasswordDialog } from "./components/PasswordDialog";
import { SignedIn, SignInAgain } from "./components/SignInAgain";
import { useRights, useSession } from "./lib/rights";
import { useSound } from "./lib/sound";
import { setTheme, useTheme } from "./lib/theme";
import { clock, many, short } from "./lib/format";
import { Channels } from "./pages/Channels";
import { GroupPage } from "./pages/Group";
import { Groups } from "./pages/Groups";
import { LogbookPage } from "./pages/Logbook";
import { DeadPage, DeadPlaces } from "./pages/Dead";
import { Now } from "./pages/Now";
import { InvitedPage } from "./pages/Invited";
import { SignInPage } from "./pages/SignIn";
import { TopicPage } from "./pages/Topic";

// Pages that are opened now and then are loaded together when the first of them is; the chart alone.
const later = () => import("./pages/later");
const AccessPage = lazy(() => later().then((m) => ({ default: m.AccessPage })));
const ChorePage = lazy(() => later().then((m) => ({ default: m.ChorePage })));
const Chores = lazy(() => later().then((m) => ({ default: m.Chores })));
const DevicePage = lazy(() => later().then((m) => ({ default: m.DevicePage })));
const DriftPage = lazy(() => later().then((m) => ({ default: m.DriftPage })));
const EndpointPage = lazy(() => later().then((m) => ({ default: m.EndpointPage })));
const Endpoints = lazy(() => later().then((m) => ({ default: m.Endpoints })));
const Hanging = lazy(() => import("./pages/Hanging").then((m) => ({ default: m.Hanging })));
const IncidentPage = lazy(() => later().then((m) => ({ default: m.IncidentPage })));
const Incidents = lazy(() => later().then((m) => ({ default: m.Incidents })));
const NodesPage = lazy(() => later().then((m) => ({ default: m.NodesPage })));
const ReplaysPage = lazy(() => later().then((m) => ({ default: m.ReplaysPage })));
const SpacePage = lazy(() => later().then((m) => ({ default: m.SpacePage })));
const TracePage = lazy(() => later().then((m) => ({ default: m.TracePage })));
const WatchPage = lazy(() => later().then((m) => ({ default: m.WatchPage })));
const Watches = lazy(() => later().then((m) => ({ default: m.Watches })));

// What is short stands for the name where there is little room, and is a part of it.
const places = [
  { to: "/now", icon: Siren, name: "What is wrong", short: "wrong" },
  { to: "/channels", icon: Waves, name: "What is where", short: "where" },
  { to: "/groups", icon: Flag, name: "Who is behind", short: "behind" },
  { to: "/dead", icon: MailX, name: "What failed", short: "failed" },
  { to: "/endpoints", icon: Plug, name: "What is outside", short: "outside" },
  { to: "/replays", icon: Repeat, name: "What is sent again", short: "again" },
  { to: "/timetable", icon: CalendarClock, name: "What is done when", short: "when" },
  { to: "/chart", icon: Waypoints, name: "How it hangs together", short: "together" },
  { to: "/nodes", icon: Server, name: "What is running", short: "running" },
  { to: "/drift", icon: FileDiff, name: "What drifted", short: "drifted" },
  { to: "/access", icon: KeyRound, name: "Who may do what", short: "may" },
  { to: "/logbook", icon: BookOpen, name: "Who did what", short: "did what" },
];

function Rail() {
  const dead = useLive().live?.dead.reduce((n, d) => n + d.dead, 0) ?? 0;
  return (
    <nav
      aria-label="Places"
      className="z-20 flex shrink-0 border-hair bg-sunk max-md:fixed max-md:inset-x-0 max-md:bottom-0 max-md:overflow-x-auto max-md:border-t md:sticky md:top-0 md:h-dvh md:w-24 md:flex-col md:border-r md:pt-3"
    >
      <img src="/mark.svg" alt="Steady Ferry" width="34" height="34" className="mx-auto mb-4 max-md:hidden" />
      {places.map(({ to, icon: Icon, name, short: brief }) => (
        <NavLink
          key={to}
          to={to}
          className={({ isActive }) =>
            `flex shrink-0 flex-col items-center gap-0.5 px-1 py-2 text-center max-md:min-w-13 max-md:px-1.5 text-[0.75rem] leading-tight no-underline ${isActive ? "bg-paper font-semibold text-ink md:border-l-3 md:border-sea" : "text-soft hover:text-ink"}`
          }
        >
          <span className="relative">
            <Icon size={19} aria-hidden />
            {to === "/dead" && dead > 0 && (
              <span
                className="absolute -top-1 left-3.5 rounded-sm bg-alarm px-1 text-[0.65rem] leading-4 font-semibold whitespace-nowrap text-paper tabular-nums md:hidden"
                aria-label={`${many(dead, "dead letter")}`}
              >
                {short(dead)}
              </span>
            )}
          </span>
          <span className="max-md:sr-only">{name}</span>
          <span className="md:hidden" aria-hidden>
            {brief}
          </span>
        </NavLink>
      ))}
    </nav>
  );
}

function Bar() {
  const theme = useTheme();
  const client = useQueryClient();
  const { connected, at, live } = useLive();
  const dead = live?.dead.reduce((n, d) => n + d.dead, 0) ?? 0;
  const [sound, setSound] = useSound(live?.incidents.alarms);
  const { name, account, everywhere } = useRights();
  const [changing, setChanging] = useState(false);
  const out = async () => {
    await call("DELETE", "/session").catch(() => undefined);
    await client.resetQueries({ queryKey: ["session"] });
  };
  return (
    <header className="sticky top-0 z-20 flex items-center gap-3 border-b border-hair bg-paper px-4 py-2">
      <AddressBox />
      <span className="ml-auto flex flex-wrap justify-end gap-x-4 text-[length:var(--text-small)] max-md:hidden" role="status">
        {connected ? (
          <Mark state="connected" word="live" />
        ) : (
          <Mark state={at ? "attention" : "starting"} word={at ? `no word since ${clock(at, false)}` : "connecting"} />
        )}
        {live && live.incidents.alarms + live.incidents.warns > 0 && (
          <Link to="/now" className="no-underline">
            <Mark
              state={live.incidents.alarms > 0 ? "alarm" : "warn"}
              word={live.incidents.alarms > 0 ? many(live.incidents.alarms, "alarm") : many(live.incidents.warns, "warning")}
            />
          </Link>
        )}
        {dead > 0 && (
          <Link to="/dead" className="no-underline">
            <Mark state="dead" word={many(dead, "dead letter")} />
          </Link>
        )}
        {live && live.cluster.withoutLeader > 0 && (
          <Mark state="failed" word={`taking no messages: ${many(live.cluster.withoutLeader, "partition")}`} />
        )}
        {live && live.cluster.withoutLeader === 0 && live.cluster.replicasMissing > 0 && (
          <Mark state="attention" word={`lacking replicas: ${many(live.cluster.replicasMissing, "partition")}`} />
        )}
        {live && live.status.catalog !== "reachable" && <Mark state="attention" word="the catalog is away" />}
      </span>
      <Link
        to="/access"
        className="max-md:hidden"
        title={everywhere("see-counts") ? undefined : "You see a part of what is there"}
      >
        {name}
      </Link>
      <button
        className="rounded p-1.5 text-soft hover:text-ink max-md:ml-auto"
        aria-label="Sound when an alarm begins"
        aria-pressed={sound}
        title={sound ? "A sound tells when an alarm begins" : "No sound tells when an alarm begins"}
        onClick={() => setSound(!sound)}
      >
        {sound ? <Bell size={18} aria-hidden /> : <BellOff size={18} aria-hidden />}
      </button>
      <button
        className="rounded p-1.5 text-soft hover:text-ink"
        aria-label={theme === "dark" ? "Light theme" : "Dark theme"}
        onClick={() => setTheme(theme === "dark" ? "light" : "dark")}
      >
        {theme === "dark" ? <Sun size={18} aria-hidden /> : <Moon size={18} aria-hidden />}
      </button>
      {account && (
        <button
          className="rounded p-1.5 text-soft hover:text-ink"
          aria-label="Change your password"
          title="Change your password"
          onClick={() => setChanging(true)}
        >
          <LockKeyhole size={18} aria-hidden />
        </button>
      )}
      <button className="rounded p-1.5 text-soft hover:text-ink" aria-label="Sign out" onClick={() => void out()}>
        <LogOut size={18} aria-hidden />
      </button>
      {changing && <PasswordDialog onClose={() => setChanging(false)} />}
    </header>
  );
}

export function App() {
  const client = useQueryClient();
  const theme = useTheme();
  const session = useSession();
  useEffect(() => onSignedOut(() => void client.resetQueries({ queryKey: ["session"] })), [client]);
  if (location.pathname === "/signed-in") return <SignedIn />;
  if (location.pathname === "/invited") return <InvitedPage onDone={(who) => client.setQueryData(["session"], who)} />;
  if (session.isPending) return null;
  if (!session.data) return <SignInPage onDone={(who) => client.setQueryData(["session"], who)} />;
  return (
    <BrowserRouter>
      <div className="md:flex">
        <Rail />
        <div className="min-w-0 flex-1">
          <Bar />
          <main className="mx-auto max-w-[90rem] px-4 py-4 max-md:pb-24">
            <Suspense fallback={null}>
              <Routes>
                <Route path="/now" element={<Now />} />
                <Route path="/incidents" element={<Incidents />} />
                <Route path="/incidents/:number" element={<IncidentPage />} />
                <Route path="/watches" element={<Watches />} />
                <Route path="/watches/:space/:name" element={<WatchPage />} />
                <Route path="/channels" element={<Channels />} />
                <Route path="/channels/:space/:channel" element={<TopicPage />} />
                <Route path="/groups" element={<Groups />} />
                <Route path="/groups/:space/:channel/:group" element={<GroupPage />} />
                <Route path="/endpoints" element={<Endpoints />} />
                <Route path="/endpoints/:space/:name" element={<EndpointPage />} />
                <Route path="/dead" element={<DeadPlaces />} />
                <Route path="/dead/:space/:channel" element={<DeadPage />} />
                <Route path="/replays" element={<ReplaysPage />} />
                <Route path="/trace/:space/:channel/:place" element={<TracePage />} />
                <Route path="/spaces/:space" element={<SpacePage />} />
                <Route path="/chart" element={<Hanging />} />
                <Route path="/timetable" element={<Chores />} />
                <Route path="/timetable/:space/:name" element={<ChorePage />} />
                <Route path="/nodes" element={<NodesPage />} />
                <Route path="/device" element={<DevicePage />} />
                <Route path="/drift" element={<DriftPage />} />
                <Route path="/access" element={<AccessPage />} />
                <Route path="/logbook" element={<LogbookPage />} />
                <Route path="*" element={<Navigate to="/now" replace />} />
              </Routes>
            </Suspense>
          </main>
        </div>
      </div>
      <SignInAgain name={session.data.name} />
      <Toaster theme={theme} position="bottom-right" />
    </BrowserRouter>
  );
}
