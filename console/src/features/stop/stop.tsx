import { useDeferredValue, useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useOld } from "../../api/connection";
import { useBoard, useChanges, useEnvironments, useInstances, useStops, useStopStory } from "../../api/queries";
import { isOver, useReleases } from "../../api/releases";
import { useAccountFor } from "../../api/usage";
import { Environments } from "../../parts/environments";
import { Lifter } from "../../parts/lifter";
import { Stopper } from "../../parts/stopper";
import { Wave } from "../../parts/wave";
import { useAddressField } from "../../ui/address";
import { AsOf } from "../../ui/as-of";
import { Button, inputStyle, Page, Problem, Sheet, Time } from "../../ui/controls";
import { Lever } from "../../ui/lever";
import { useNow } from "../../ui/now";
import { Drills } from "./drills";
import { Tripwires } from "./tripwires";
import { Processes, Spread } from "../../ui/processes";
import { Said } from "../../ui/variant";

/** How many flags are shown at a time: of more, one types. */
const most = 40;

/** The page for the person on call: find, stop, see who has it; lift. Each part works while others fail. */
export default function StopPage() {
  const { project = "", environment = "" } = useParams();
  const index = useEnvironments(project);
  const askFirst = index.data?.items.find((e) => e.key === environment)?.askFirst ?? false;
  return (
    <Page name={`Stop in ${environment}`} title="Stop" aside={<Environments project={project} environment={environment} to={(e) => `/p/${project}/${e}/stop`} />}>
      <div className="grid items-start gap-4 md:grid-cols-2">
        <Live key={environment} project={project} environment={environment} />
        <div className="flex min-w-0 flex-col gap-4">
          <Standing project={project} environment={environment} />
          <Delivery project={project} environment={environment} />
          <Drills key={`drills ${environment}`} project={project} environment={environment} />
          <Tripwires key={environment} project={project} environment={environment} askFirst={askFirst} />
        </div>
      </div>
    </Page>
  );
}

/** Live finds what is on here: what changed last stands on top. */
function Live({ project, environment }: { project: string; environment: string }) {
  const [typed, setTyped] = useAddressField("find");
  const [picked, setPicked] = useState<{ key: string; loses?: string | undefined }[]>([]);
  const words = useDeferredValue(typed);
  const board = useBoard(project, { find: `on:${environment} ${words}`, environments: environment, sort: "changed", limit: most });
  const last = useLatest(project, environment);
  const hurt = useHurt(project, environment);
  const flags = (board.data?.flags ?? []).toSorted((a, b) => Number(hurt.has(b.key)) - Number(hurt.has(a.key)));
  const pick = (f: Schemas["BoardFlag"], on: boolean) => setPicked(on ? [...picked, { key: f.key, loses: f.loses }] : picked.filter((p) => p.key !== f.key));
  return (
    <Sheet title={`Live in ${environment}`}>
      <input
        type="search"
        aria-label="find a flag"
        placeholder="find a flag"
        className={`${inputStyle} mb-2 min-h-11 w-full`}
        value={typed}
        onChange={(e) => setTyped(e.target.value)}
      />
      <Problem error={board.error} />
      {board.error && !board.data && <ByKey project={project} environment={environment} />}
      {picked.length > 1 && (
        <div className="sticky top-14 z-10 mb-2 rounded border border-edge bg-sheet p-3 shadow-md">
          <p className="mb-2 break-words">
            Chosen: <span className="font-mono text-[13px]">{picked.map((p) => p.key).join(", ")}</span>
          </p>
          <Stopper project={project} environment={environment} flags={picked} label={`Stop these ${picked.length}`} onDone={() => setPicked([])} />
        </div>
      )}
      {typed.trim() !== "" && flags.length > 1 && (
        <Button tone="bare" className="underline" onClick={() => setPicked(flags.map((f) => ({ key: f.key, loses: f.loses })))}>
          choose all {flags.length} found
        </Button>
      )}
      {typed.trim() === "" && (
        <p className="mb-2 text-soft">
          Several at once: type words such as{" "}
          {["changed:<15m", "tag:billing"].map((w, i) => (
            <span key={w}>
              {i > 0 && " or "}
              <button type="button" className="cursor-pointer font-mono text-[13px] underline" onClick={() => setTyped(w)}>
                {w}
              </button>
            </span>
          ))}
          , and choose all.
        </p>
      )}
      <ul className="flex flex-col" aria-label="live flags">
        {flags.map((f) => (
          <li key={f.key} className="flex flex-col gap-2 border-b border-line py-3 last:border-0 sm:flex-row sm:items-center sm:has-[[role=group]]:flex-col sm:has-[[role=group]]:items-stretch">
            <div className="flex flex-1 items-start gap-3">
              <label className="flex min-h-11 min-w-6 items-center">
                <input type="checkbox" aria-label={`choose ${f.key}`} className="size-5" checked={picked.some((p) => p.key === f.key)} onChange={(e) => pick(f, e.target.checked)} />
              </label>
              <div className="min-w-0 flex-1">
                <div className="font-mono text-[13px] break-all">{f.key}</div>
                <div className="text-soft">
                  {f.title}, changed {f.in[environment] && <Time near ms={f.in[environment].changed} />}
                  {last.get(f.key) && ` by ${last.get(f.key)}`}
                </div>
                {hurt.has(f.key) && <div className="font-medium text-alarm">its release found harm: {hurt.get(f.key)}</div>}
                <div>{f.in[environment] && <Said said={f.in[environment].gist} names={f.variants} />}</div>
              </div>
            </div>
            <Stopper project={project} environment={environment} flags={[{ key: f.key, loses: f.loses }]} label={`Stop ${f.key}`} />
          </li>
        ))}
        {board.data && flags.length === 0 && (
          <li className="text-soft">
            No flag is on here{typed && " with this in its name"}. <span className="block">On the command line: greenlever stop FLAG --env {environment}</span>
          </li>
        )}
        {board.data && board.data.total > flags.length && <li className="py-2 text-soft">and {(board.data.total - flags.length).toLocaleString()} more: type to find them</li>}
      </ul>
    </Sheet>
  );
}

/** useLatest says who changed each flag last, of those that changed lately. The page does without it. */
function useLatest(project: string, environment: string): Map<string, string> {
  const changes = useChanges(project, { environment });
  const out = new Map<string, string>();
  for (const c of changes.data?.items ?? []) if (c.subject && c.action.startsWith("flag.") && !out.has(c.subject)) out.set(c.subject, c.name);
  return out;
}

/** useHurt says what the releases that run here found harm of. */
function useHurt(project: string, environment: string): Map<string, string> {
  const releases = useReleases(project);
  return new Map((releases.data?.items ?? []).filter((r) => r.environment === environment && !isOver(r.state.is) && r.state.why === "harm").map((r) => [r.flag, r.sentence.text]));
}

/** ByKey stops a flag that cannot be looked up: its key is enough. */
function ByKey({ project, environment }: { project: string; environment: string }) {
  const [key, setKey] = useState("");
  return (
    <div className="my-3 flex flex-col gap-2">
      <p>The flags cannot be read now. A stop needs the key alone:</p>
      <input aria-label="key of the flag" className={`${inputStyle} min-h-11 font-mono`} value={key} onChange={(e) => setKey(e.target.value)} />
      <Stopper project={project} environment={environment} flags={key.trim() === "" ? [] : [{ key: key.trim() }]} label={key.trim() === "" ? "Stop it" : `Stop ${key.trim()}`} />
    </div>
  );
}

function Standing({ project, environment }: { project: string; environment: string }) {
  const stops = useStops(project, environment);
  const standing = stops.data?.items.filter((s) => !s.liftedAt) ?? [];
  return (
    <Sheet title="Standing stops">
      <Problem error={stops.error} />
      {stops.data && standing.length === 0 && <p className="text-soft">None.</p>}
      {standing.map((s, i) => (
        <StandingStop key={s.id} stop={s} project={project} environment={environment} newest={i === 0} />
      ))}
    </Sheet>
  );
}

/** For so long the newest stop shows how it arrives, in milliseconds. */
const fresh = 15 * 60_000;

function StandingStop({ stop, project, environment, newest }: { stop: Schemas["StopView"]; project: string; environment: string; newest: boolean }) {
  const now = useNow();
  const index = useEnvironments(project);
  const askFirst = index.data?.items.find((e) => e.key === environment)?.askFirst ?? false;
  return (
    <div className="mb-3 flex flex-col gap-2 border-b border-line pb-3 last:mb-0 last:border-0 last:pb-0">
      <div className="flex flex-wrap items-center gap-2">
        <Lever position="stopped" />
        <span className="font-mono text-[13px] break-all">{stop.flags.join(", ")}</span>
      </div>
      <div className="text-soft">
        by {stop.byName}, <Time ms={stop.at} />, revision {stop.revision}
      </div>
      {(stop.reason || stop.later) && <div>{stop.reason || stop.later}</div>}
      <Link className="underline" to={`/p/${project}/${environment}/stops/${stop.id}`}>
        who has it, why, and what happened
      </Link>
      {newest && now - stop.at < fresh && <Arrives project={project} environment={environment} stop={stop.id} />}
      <Lifter project={project} environment={environment} stops={[stop.id]} askFirst={askFirst} />
    </div>
  );
}

function Arrives({ project, environment, stop }: { project: string; environment: string; stop: string }) {
  const story = useStopStory(project, environment, stop);
  return story.data?.wave ? <Wave of={story.data.wave} /> : <Problem error={story.error} />;
}

/** Delivery is the proof: every process that has the newest revision, and the lost ones by name. */
function Delivery({ project, environment }: { project: string; environment: string }) {
  const d = useInstances(project, environment);
  const old = useOld(d);
  const gone = useAccountFor(project, environment);
  if (!d.data) return <Problem error={d.error} />;
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
