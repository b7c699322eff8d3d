import { Suspense, useEffect, useState } from "react";
import { Link, Navigate, NavLink, Outlet, useLocation, useNavigate, useParams } from "react-router";
import { useConnection } from "../api/connection";
import { useBoard, useLive, useMe, useSignOut } from "../api/queries";
import { useDrafts } from "../draft/kept";
import { Button, Page, Problem, Waiting } from "../ui/controls";
import { NotConnected, SignInAgain } from "./connected";
import { Palette, type Command } from "./palette";

const place = ({ isActive }: { isActive: boolean }) =>
  `rounded px-2 py-1 whitespace-nowrap max-sm:px-1.5 ${isActive ? "bg-page font-medium text-ink" : "text-soft hover:text-ink"}`;

/** Shell is what stands around every page: where one is, the stop, and the palette. */
export function Shell() {
  const me = useMe();
  const params = useParams();
  const project = params.project ?? Object.keys(me.data?.roles ?? {})[0] ?? "";
  const board = useBoard(me.data ? project : "");
  const [open, setOpen] = useState(false);
  const signOut = useSignOut();
  const go = useNavigate();
  const here = useLocation();
  const { signedOut } = useConnection();
  const drafts = useDrafts();
  useLive(me.data ? project : "");
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key === "k") {
        e.preventDefault();
        setOpen(true);
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);

  if (!me.data && signedOut) return <Navigate to={`/sign-in?to=${encodeURIComponent(here.pathname + here.search)}`} replace />;
  if (!me.data) {
    return (
      <>
        <NotConnected />
        {me.error ? <Page title="Green Lever"><Problem error={me.error} /></Page> : <Waiting what="who you are" />}
      </>
    );
  }

  const environments = board.data?.environments ?? [];
  // The one that matters most at night: that which asks first, else the last one made.
  const night = params.environment ?? (environments.find((e) => e.askFirst) ?? environments.at(-1))?.key;
  const commands: Command[] = [
    { group: "Places", label: "Board", run: () => go(`/p/${project}`) },
    { group: "Places", label: "History", run: () => go(`/p/${project}/history`) },
    { group: "Places", label: "Settings", run: () => go(`/p/${project}/settings`) },
    { group: "Places", label: "New flag", run: () => go(`/p/${project}/new-flag`) },
    ...environments.flatMap((e) =>
      [
        { label: `Segments in ${e.key}`, path: "" },
        { label: `Attributes in ${e.key}`, path: "/attributes" },
        { label: `Units in ${e.key}`, path: "/unit" },
        { label: `Roster in ${e.key}`, path: "/roster" },
      ].map((p) => ({ group: "Population", label: p.label, run: () => go(`/p/${project}/${e.key}/population${p.path}`) })),
    ),
    ...environments.flatMap((e) =>
      [
        { label: `Decisions in ${e.key}`, path: "" },
        { label: `Processes in ${e.key}`, path: "/processes" },
        { label: `Radar in ${e.key}`, path: "/radar" },
      ].map((p) => ({ group: "Usage", label: p.label, run: () => go(`/p/${project}/${e.key}/usage${p.path}`) })),
    ),
    ...environments.map((e) => ({ group: "Stop", label: `Stop in ${e.key}`, run: () => go(`/p/${project}/${e.key}/stop`) })),
    ...(board.data?.flags ?? []).flatMap((f) => environments.map((e) => ({ group: "Flags", label: `${f.key} in ${e.key}`, run: () => go(`/p/${project}/${e.key}/flags/${f.key}`) }))),
  ];

  return (
    <>
      {signedOut && <SignInAgain email={me.data.account.email} />}
      <header className="sticky top-0 z-10 border-b border-line bg-sheet">
        <NotConnected />
        <div className="mx-auto flex max-w-7xl flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2">
          <Link to="/" className="flex items-center gap-2 font-semibold">
            <img src="/mark.svg" alt="" width="22" height="22" /> <span className="hidden sm:inline">Green Lever</span>
          </Link>
          <span className="hidden text-soft sm:inline">{board.data?.project.title}</span>
          <nav className="flex min-w-0 flex-1 items-center gap-1 max-sm:order-last max-sm:basis-full max-sm:flex-wrap max-sm:gap-x-0" aria-label="places">
            {project && (
              <>
                <NavLink end to={`/p/${project}`} className={place}>
                  Board
                </NavLink>
                {night && (
                  <NavLink to={`/p/${project}/${night}/why`} className={place}>
                    Why
                  </NavLink>
                )}
                {night && (
                  <NavLink to={`/p/${project}/${night}/population`} className={place}>
                    Population
                  </NavLink>
                )}
                {night && (
                  <NavLink to={`/p/${project}/${night}/usage`} className={place}>
                    Usage
                  </NavLink>
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
          <Button tone="bare" className="max-sm:hidden" onClick={() => setOpen(true)}>
            Go to <kbd className="rounded border border-line px-1 text-xs">Ctrl K</kbd>
          </Button>
          <Link to="/account" className="text-soft hover:text-ink max-sm:ml-auto">
            {me.data.account.name}
          </Link>
          <Button tone="bare" className="max-sm:hidden" onClick={() => signOut.mutate()}>
            Sign out
          </Button>
          {project && night && (
            <Link to={`/p/${project}/${night}/stop`} className="rounded border border-alarm bg-alarm-sheet px-3 py-1 font-medium text-alarm">
              Stop
            </Link>
          )}
        </div>
        {drafts.length > 0 && (
          <p className="mx-auto flex max-w-7xl flex-wrap gap-x-3 px-4 pb-1.5 text-xs" data-testid="drafts">
            <span className="text-soft">not saved:</span>
            {drafts.map((d) => (
              <Link key={d.to} to={d.to} className="underline">
                {d.what}
              </Link>
            ))}
          </p>
        )}
      </header>
      <Suspense fallback={<Waiting what="the page" />}>
        <Outlet />
      </Suspense>
      <Palette open={open} onClose={() => setOpen(false)} commands={commands} />
    </>
  );
}
