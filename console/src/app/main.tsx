import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, createRoutesFromElements, Navigate, Outlet, Route } from "react-router";
import { RouterProvider } from "react-router/dom";
import { passes } from "../api/client";
import { useConnection } from "../api/connection";
import { useMe } from "../api/queries";
import { Page, Problem, Waiting } from "../ui/controls";
import { Broken } from "./broken";
import { Shell } from "./shell";
import "./style.css";

// One piece of script for each place, so that the first view is small.
const SignIn = lazy(() => import("../features/entry/sign-in"));
const Device = lazy(() => import("../features/entry/device"));
const SetUp = lazy(() => import("../features/entry/set-up"));
const Board = lazy(() => import("../features/board/board"));
const NewFlag = lazy(() => import("../features/flag/new-flag"));
const Flag = lazy(() => import("../features/flag/flag"));
const Why = lazy(() => import("../features/why/why"));
const Releases = lazy(() => import("../features/releases/releases"));
const Release = lazy(() => import("../features/releases/release"));
const StartRelease = lazy(() => import("../features/releases/start"));
const History = lazy(() => import("../features/history/history"));
const Stop = lazy(() => import("../features/stop/stop"));
const StopStory = lazy(() => import("../features/stop/story"));
const Settings = lazy(() => import("../features/settings/settings"));
const Needs = lazy(() => import("../features/together/needs"));
const Bundles = lazy(() => import("../features/life/bundles"));
const Bundle = lazy(() => import("../features/life/bundle"));
const Retiring = lazy(() => import("../features/life/retiring"));
const Proposals = lazy(() => import("../features/together/proposals"));
const Proposal = lazy(() => import("../features/together/proposal"));
const Calendar = lazy(() => import("../features/together/calendar"));
const Segments = lazy(() => import("../features/population/segments"));
const Attributes = lazy(() => import("../features/population/attributes"));
const Unit = lazy(() => import("../features/population/unit"));
const Roster = lazy(() => import("../features/population/roster"));
const Usage = lazy(() => import("../features/usage/usage"));
const Metrics = lazy(() => import("../features/usage/metrics"));
const Processes = lazy(() => import("../features/usage/processes"));
const Radar = lazy(() => import("../features/usage/radar"));
const NewProject = lazy(() => import("../features/settings/new-project"));
const Looks = import.meta.env.DEV ? lazy(() => import("../features/looks/looks")) : undefined;
const Account = lazy(() => import("../features/settings/account"));

/** How long after a failure that may pass something is read again, in milliseconds. */
const askAgain = 5_000;

const cache = new QueryClient({
  defaultOptions: {
    // What the browser believes of the network is not asked: the service may be on this machine.
    mutations: { networkMode: "always" },
    // What could not be read anew is asked for until it can be: nothing else would say that it is old.
    queries: { networkMode: "always", staleTime: 2_000, retry: (n, e) => n < 2 && passes(e), refetchInterval: ({ state }) => (passes(state.error) ? askAgain : false) },
  },
});

function First() {
  const me = useMe();
  const { signedOut } = useConnection();
  if (!me.data && signedOut) return <Navigate to="/sign-in" replace />;
  if (!me.data) return me.error ? <Page title="Green Lever"><Problem error={me.error} /></Page> : <Waiting what="who you are" />;
  const project = Object.keys(me.data.roles)[0];
  return <Navigate to={project ? `/p/${project}` : me.data.account.keeper ? "/new-project" : "/account"} replace />;
}

const router = createBrowserRouter(
  createRoutesFromElements(
    <Route element={<Suspense fallback={<Waiting what="the page" />}><Outlet /></Suspense>} errorElement={<Broken />}>
      <Route path="/" element={<First />} />
      <Route path="/sign-in" element={<SignIn />} />
      <Route path="/set-up" element={<SetUp />} />
      {Looks && <Route path="/looks" element={<Looks />} />}
      <Route element={<Shell />}>
        <Route errorElement={<Broken />}>
          <Route path="/new-project" element={<NewProject />} />
          <Route path="/account" element={<Account />} />
          <Route path="/device" element={<Device />} />
          <Route path="/p/:project">
            <Route index element={<Board />} />
            <Route path="new-flag" element={<NewFlag />} />
            <Route path="history" element={<History />} />
            <Route path="releases" element={<Releases />} />
            <Route path="releases/new" element={<StartRelease />} />
            <Route path=":environment/releases/:release" element={<Release />} />
            <Route path="settings" element={<Settings />} />
            <Route path="needs" element={<Needs />} />
            <Route path="proposals" element={<Proposals />} />
            <Route path="proposals/:proposal" element={<Proposal />} />
            <Route path="calendar" element={<Calendar />} />
            <Route path="bundles" element={<Bundles />} />
            <Route path="bundles/:bundle" element={<Bundle />} />
            <Route path="retiring" element={<Retiring />} />
            <Route path=":environment/flags/:flag" element={<Flag />} />
            <Route path=":environment/why" element={<Why />} />
            <Route path=":environment/stop" element={<Stop />} />
            <Route path=":environment/stops/:stop" element={<StopStory />} />
            <Route path=":environment/usage" element={<Usage />} />
            <Route path=":environment/usage/metrics" element={<Metrics />} />
            <Route path=":environment/usage/processes" element={<Processes />} />
            <Route path=":environment/usage/radar" element={<Radar />} />
            <Route path=":environment/population" element={<Segments />} />
            <Route path=":environment/population/attributes" element={<Attributes />} />
            <Route path=":environment/population/unit" element={<Unit />} />
            <Route path=":environment/population/roster" element={<Roster />} />
          </Route>
        </Route>
      </Route>
      <Route path="*" element={<Navigate to="/" replace />} />
    </Route>,
  ),
);

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={cache}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
