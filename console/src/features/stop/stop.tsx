import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useOld } from "../../api/connection";
import { useBoard, useInstances, useLift, useStop, useStops } from "../../api/queries";
import { useAccountFor } from "../../api/usage";
import { Button, inputStyle, Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { AsOf } from "../../ui/as-of";
import { Processes, Spread } from "../../ui/processes";
import { Lever } from "../../ui/lever";

/** The page for the person on call: find, stop, see who has it; lift. */
export default function StopPage() {
  const { project = "", environment = "" } = useParams();
  const board = useBoard(project);
  const stops = useStops(project, environment);
  const stop = useStop(project, environment);
  const [find, setFind] = useState("");
  if (board.isPending || stops.isPending) return <Waiting what="the flags" />;
  if (!board.data || !stops.data) return <Page title="Stop"><Problem error={board.error ?? stops.error} /></Page>;
  const askFirst = board.data.environments.find((e) => e.key === environment)?.askFirst ?? false;
  const standing = stops.data.items.filter((s) => !s.liftedAt);
  const live = board.data.flags.filter((f) => f.in[environment]?.lever === "on" && f.in[environment].stops.length === 0);
  const shown = live.filter((f) => `${f.key} ${f.title}`.toLowerCase().includes(find.trim().toLowerCase()));
  return (
    <Page
      title="Stop"
      aside={
        <nav aria-label="environments" className="flex flex-wrap gap-1">
          {board.data.environments.map((e) => (
            <Link key={e.key} to={`/p/${project}/${e.key}/stop`} aria-current={e.key === environment ? "page" : undefined} className={`rounded border px-2.5 py-1 ${e.key === environment ? "border-lever font-medium" : "border-line text-soft"}`}>
              {e.key}
            </Link>
          ))}
        </nav>
      }
    >
      <div className="grid gap-4 md:grid-cols-2">
        <Sheet title={`Live in ${environment}`}>
          <input aria-label="find a flag" placeholder="find a flag" className={`${inputStyle} mb-2 w-full`} value={find} onChange={(e) => setFind(e.target.value)} />
          <ul className="flex flex-col">
            {shown.map((f) => (
              <li key={f.key} className="flex items-center justify-between gap-2 border-b border-line py-2 last:border-0">
                <div className="min-w-0">
                  <div className="truncate font-mono text-[13px]">{f.key}</div>
                  <div className="truncate text-soft">{f.title}</div>
                </div>
                <Button tone="alarm" className="min-h-11" aria-label={`stop ${f.key}`} disabled={stop.isPending} onClick={() => stop.mutate({ flags: [f.key], reason: "" })}>
                  Stop
                </Button>
              </li>
            ))}
            {shown.length === 0 && <li className="text-soft">No flag is on here{find && " with this name"}.</li>}
          </ul>
          <Problem error={stop.error} />
        </Sheet>
        <div className="flex flex-col gap-4">
          <Sheet title="Standing stops">
            {standing.length === 0 && <p className="text-soft">None.</p>}
            {standing.map((s) => (
              <Standing key={s.id} stop={s} project={project} environment={environment} askFirst={askFirst} />
            ))}
          </Sheet>
          <Delivery project={project} environment={environment} />
        </div>
      </div>
    </Page>
  );
}

function Standing({ stop, project, environment, askFirst }: { stop: Schemas["StopView"]; project: string; environment: string; askFirst: boolean }) {
  const lift = useLift(project, environment);
  const [why, setWhy] = useState("");
  return (
    <div className="flex flex-col gap-1.5 border-b border-line py-2 last:border-0">
      <div className="flex flex-wrap items-center gap-2">
        <Lever position="stopped" word={false} />
        <span className="font-mono text-[13px]">{stop.flags.join(", ")}</span>
      </div>
      <div className="text-soft">
        by {stop.byName}, <Time ms={stop.at} />, revision {stop.revision}
      </div>
      {stop.reason && <div>{stop.reason}</div>}
      <div className="flex flex-wrap gap-2">
        {askFirst && <input aria-label="why lift" className={`${inputStyle} min-w-0 flex-1`} placeholder="why lift it?" value={why} onChange={(e) => setWhy(e.target.value)} />}
        <Button disabled={lift.isPending || (askFirst && why.trim() === "")} onClick={() => lift.mutate({ stops: [stop.id], reason: why })}>
          Lift
        </Button>
      </div>
      <Problem error={lift.error} />
    </div>
  );
}

/** Delivery is the proof: every process that has the newest revision, and the lost ones by name. */
function Delivery({ project, environment }: { project: string; environment: string }) {
  const d = useInstances(project, environment);
  const old = useOld(d);
  const gone = useAccountFor(project, environment);
  if (!d.data) return null;
  const { revision, lost, alive, delivered, newest, streams, pollers } = d.data;
  return (
    <Sheet title="Who has it">
      <p className="text-base" role="status" data-testid="delivery">
        Revision {revision}: delivered to {delivered} of {alive}
        <AsOf at={old} />
        {lost.length > 0 && <span className="text-alarm">; {lost.length} lost, may still decide the old way</span>}
      </p>
      {newest && (
        <p>
          <Spread d={newest} />
        </p>
      )}
      {streams + pollers > 0 && (
        <p className="text-soft">
          Besides: about {streams.toLocaleString()} pages that are told to ask again, and {pollers.toLocaleString()} units for which was asked over HTTP of late.
        </p>
      )}
      <div className="mt-2">
        <Processes {...d.data} onGone={(instance, reason) => gone.mutate({ instance, reason })} />
      </div>
      <Problem error={gone.error} />
    </Sheet>
  );
}
