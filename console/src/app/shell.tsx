import { lazy, Suspense, useEffect, useMemo, useRef, useState } from "react";
import { Link, Navigate, NavLink, Outlet, ScrollRestoration, useLocation, useNavigate, useParams } from "react-router";
import { useConnection } from "../api/connection";
import { useEnvironments, useLive, useMe, useProjects, useSignOut } from "../api/queries";
import { useNeeds } from "../api/together";
import { useDrafts } from "../draft/kept";
import { Button, Page, Problem, Select, Waiting } from "../ui/controls";
import { Sayings } from "../ui/said";
import { NotConnected } from "./connected";
import { find, useKeys, type Key } from "./keys";
import type { Destination } from "./palette";

// Dialogs come when they are asked for.
const Palette = lazy(() => import("./palette"));
const Keys = lazy(() => import("./palette").then((m) => ({ default: m.Keys })));
const SignInAgain = lazy(() => import("./sign-in-again"));

const place = ({ isActive }: { isActive: boolean }) =>
  `rounded px-1.5 py-1 whitespace-nowrap min-[90rem]:px-2 ${isActive ? "bg-well font-medium text-ink" : "text-soft hover:text-ink"}`;

const ofEnvironment = [
  { path: "why", label: "Why" },
  { path: "population", label: "Population" },
  { path: "usage", label: "Usage" },
];

/** onceThere does something with an element as soon as it is on the page, and nothing stands over that. */
function onceThere(selector: string, act: (e: HTMLElement) => void): () => void {
  let tries = 0;
  const timer = setInterval(() => {
    const there = document.querySelector<HTMLElement>(selector);
    if (++tries > 40) clearInterval(timer);
    if (!there || document.querySelector("[role=dialog]")) return;
    clearInterval(timer);
    if (!document.activeElement?.matches("main input, main textarea")) act(there);
  }, 50);
  return () => clearInterval(timer);
}

/** placesOf are the pages that one goes to by name. */
function placesOf(project: string, environments: string[]): Destination[] {
  const within = (group: string, label: string, path: string): Destination[] => environments.map((e) => ({ group, label: `${label} in ${e}`, to: `/p/${project}/${e}/${path}` }));
  return [
    { group: "Pages", label: "Board", to: `/p/${project}` },
    { group: "Pages", label: "Releases", to: `/p/${project}/releases` },
    { group: "Pages", label: "Needs me", to: `/p/${project}/needs` },
    { group: "Pages", label: "Proposals", to: `/p/${project}/proposals` },
    { group: "Pages", label: "Calendar", to: `/p/${project}/calendar` },
    { group: "Pages", label: "Bundles", to: `/p/${project}/bundles` },
    { group: "Pages", label: "Retiring", to: `/p/${project}/retiring` },
    { group: "Pages", label: "Start a release", to: `/p/${project}/releases/new` },
    { group: "Pages", label: "History", to: `/p/${project}/history` },
    { group: "Pages", label: "Settings", to: `/p/${project}/settings` },
    ...within("Stop", "Stop", "stop"),
    ...within("Why", "Why", "why"),
    ...within("Population", "Segments", "population"),
    ...within("Population", "Attributes", "population/attributes"),
    ...within("Population", "Units", "population/unit"),
    ...within("Population", "Roster", "population/roster"),
    ...within("Usage", "Decisions", "usage"),
    ...within("Usage", "Metrics", "usage/metrics"),
    ...within("Usage", "Processes", "usage/processes"),
    ...within("Usage", "Radar", "usage/radar"),
  ];
}

/** Shell is what stands around every page: where one is, the stop, and the palette. */
export function Shell() {
  const me = useMe();
  const params = useParams();
  const mine = Object.keys(me.data?.roles ?? {});
  const project = params.project ?? mine[0] ?? "";
  const known = me.data && (params.project === undefined || mine.includes(project) || mine.length === 0);
  const index = useEnvironments(known ? project : "");
  const projects = useProjects();
  const needs = useNeeds(known ? project : "");
  const waiting = needs.data?.items.length ?? 0;
  const [open, setOpen] = useState<"" | "palette" | "keys">("");
  const signOut = useSignOut();
  const go = useNavigate();
  const here = useLocation();
  const { signedOut } = useConnection();
  const drafts = useDrafts();
  const first = useRef(here.pathname);
  useLive(me.data ? project : "");
  const environments = useMemo(() => (index.data?.items ?? []).map((e) => e.key), [index.data]);
  // The one that matters most at night: that which asks first, else the last one made.
  const night = params.environment ?? (index.data?.items.find((e) => e.askFirst) ?? index.data?.items.at(-1))?.key ?? "";
  const keys = useMemo<Key[]>(
    () => [
      { key: "", shown: "Ctrl K", does: "go anywhere by typing", act: () => setOpen("palette") },
      { key: "/", shown: "/", does: "find on this page", act: find },
      { key: "b", shown: "b", does: "Board", act: () => void go(`/p/${project}`) },
      { key: "n", shown: "n", does: "new flag", act: () => void go(`/p/${project}/new-flag`) },
      { key: "r", shown: "r", does: "Releases", act: () => void go(`/p/${project}/releases`) },
      { key: "m", shown: "m", does: "Needs me", act: () => void go(`/p/${project}/needs`) },
      { key: "p", shown: "p", does: "Proposals", act: () => void go(`/p/${project}/proposals`) },
      { key: "w", shown: "w", does: "why", act: () => void go(`/p/${project}/${night}/why`) },
      { key: "h", shown: "h", does: "History", act: () => void go(`/p/${project}/history`) },
      { key: "s", shown: "s", does: "Stop", act: () => void go(`/p/${project}/${night}/stop`) },
      { key: "", shown: "Ctrl Z", does: "undo a step of the edit; with Shift: redo", act: () => undefined },
      { key: "?", shown: "?", does: "these keys", act: () => setOpen("keys") },
    ],
    [go, project, night],
  );
  useKeys(keys);
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key === "k") {
        e.preventDefault();
        setOpen("palette");
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  // Who does not see that the page changed hears its heading.
  useEffect(() => {
    if (first.current === here.pathname) return;
    first.current = here.pathname;
    return onceThere("main h1", (heading) => heading.focus({ preventScroll: true }));
  }, [here.pathname]);

  if (!me.data && signedOut) return <Navigate to={`/sign-in?to=${encodeURIComponent(here.pathname + here.search)}`} replace />;
  if (!me.data) {
    return (
      <>
        <NotConnected />
        {me.error ? <Page title="Green Lever"><Problem error={me.error} /></Page> : <Waiting what="who you are" />}
      </>
    );
  }
  const places = placesOf(project, environments);
  const titles = projects.data?.items ?? [];

  return (
    <>
      <Suspense fallback={null}>{signedOut && <SignInAgain email={me.data.account.email} />}</Suspense>
      <header className="sticky top-0 z-20 border-b border-line bg-sheet">
        <NotConnected />
        <div className="mx-auto flex max-w-[1600px] flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2">
          <Link to="/" className="flex items-center gap-2 font-semibold">
            <img src="/mark.svg" alt="Green Lever" width="22" height="22" /> <span className="hidden 2xl:inline" aria-hidden="true">Green Lever</span>
          </Link>
          {titles.length > 1 ? (
            <Select aria-label="project" className="w-44 max-sm:order-last" value={project} onChange={(e) => void go(`/p/${e.target.value}`)} options={titles.map((p) => ({ value: p.key, label: p.title }))} />
          ) : (
            <span className="hidden max-w-36 truncate text-soft xl:inline-block">{titles[0]?.title}</span>
          )}
          <nav className="flex min-w-0 flex-1 items-center gap-1 max-sm:order-last max-sm:basis-full max-sm:flex-wrap max-sm:gap-x-0" aria-label="places">
            {project && (
              <>
                <NavLink end to={`/p/${project}`} className={place}>
                  Board
                </NavLink>
                <NavLink to={`/p/${project}/needs`} className={place}>
                  Needs me{waiting > 0 && <span className="ml-1 rounded bg-note px-1" aria-label={`${waiting} wait for you`}>{waiting}</span>}
                </NavLink>
                <NavLink to={`/p/${project}/releases`} className={place}>
                  Releases
                </NavLink>
                <NavLink to={`/p/${project}/proposals`} className={place}>
                  Proposals
                </NavLink>
                {ofEnvironment.map((p) =>
                  night ? (
                    <NavLink key={p.path} to={`/p/${project}/${night}/${p.path}`} className={place}>
                      {p.label}
                    </NavLink>
                  ) : (
                    // It keeps its place, so that nothing jumps once it is known where it leads.
                    <span key={p.path} className="px-1.5 py-1 text-soft min-[90rem]:px-2">
                      {p.label}
                    </span>
                  ),
                )}
                <NavLink to={`/p/${project}/history`} className={place}>
                  History
                </NavLink>
                <NavLink to={`/p/${project}/settings`} className={place}>
                  Settings
                </NavLink>
              </>
            )}
          </nav>
          <Button tone="bare" className="px-1! sm:px-3!" onClick={() => setOpen("palette")}>
            Go to <kbd className="rounded border border-edge px-1 text-xs max-lg:hidden">Ctrl K</kbd>
          </Button>
          <Link to="/account" className="text-soft hover:text-ink max-sm:ml-auto">
            {me.data.account.name}
          </Link>
          <Button tone="bare" className="max-sm:hidden" onClick={() => signOut.mutate()}>
            Sign out
          </Button>
          {project && night && (
            <Link to={`/p/${project}/${night}/stop`} className="rounded border border-alarm bg-alarm-sheet px-3 py-1.5 font-medium text-alarm">
              Stop
            </Link>
          )}
        </div>
        {drafts.length > 0 && (
          <p className="mx-auto flex max-w-[1600px] flex-wrap gap-x-3 px-4 pb-1.5 text-xs" data-testid="drafts">
            <span className="text-soft">not saved:</span>
            {drafts.map((d) => (
              <Link key={d.what} to={d.to} className="underline">
                {d.what}
              </Link>
            ))}
          </p>
        )}
      </header>
      <Suspense fallback={<Waiting what="the page" />}>
        <Outlet />
      </Suspense>
      <Suspense fallback={null}>
        {open === "palette" && (
          <Palette
            project={project}
            environments={environments}
            night={night}
            places={places}
            acts={[
              { label: "New flag", act: () => void go(`/p/${project}/new-flag`) },
              { label: "Keys", act: () => setOpen("keys") },
              { label: "Sign out", act: () => signOut.mutate() },
            ]}
            onClose={() => setOpen("")}
          />
        )}
        {open === "keys" && <Keys keys={keys} onClose={() => setOpen("")} />}
      </Suspense>
      <Sayings />
      <ScrollRestoration />
    </>
  );
}
