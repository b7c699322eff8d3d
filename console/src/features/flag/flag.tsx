import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { ApiProblem, type Schemas } from "../../api/client";
import { useBoard, useCounts, useFlag, useLift, useSaveFlag, useSegments, useStop, useTry, type SaveFlag } from "../../api/queries";
import { Button, Dialog, inputStyle, Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { Lever } from "../../ui/lever";
import { Said, Variant } from "../../ui/variant";
import { DefinitionSheet } from "./definition";
import { Track } from "./track";
import { Values } from "./values";

type Document = Schemas["Document"];

/** useSettled gives a value once it has not changed for a moment. */
function useSettled<T>(value: T, ms: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return settled;
}

export default function FlagPage() {
  const { project = "", environment = "", flag = "" } = useParams();
  // A page for each flag and environment, so that no draft is carried from one to another.
  return <FlagIn key={`${project} ${environment} ${flag}`} project={project} environment={environment} flag={flag} />;
}

interface Draft {
  document: Document;
  version: number; // that it was begun on
}

function FlagIn({ project, environment, flag }: { project: string; environment: string; flag: string }) {
  const view = useFlag(project, environment, flag);
  const board = useBoard(project);
  const segments = useSegments(project, environment);
  const [draft, setDraft] = useState<Draft>();
  const [reason, setReason] = useState("");
  const [values, setValues] = useState(false);
  const save = useSaveFlag(project, environment, flag);
  const askFirst = view.data?.environment.askFirst ?? false;
  // A dry run shows the difference before a reason is typed.
  const asked = useSettled(draft, 250);
  const edit: SaveFlag | undefined = asked && { document: asked.document, version: asked.version, reason: "not said yet" };
  const tried = useTry(project, environment, flag, draft && edit);

  useEffect(() => {
    if (!draft) return;
    const stay = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", stay);
    return () => window.removeEventListener("beforeunload", stay);
  }, [draft]);

  if (view.isPending) return <Waiting what={flag} />;
  if (view.error) return <Page title={flag}><Problem error={view.error} /></Page>;
  const { definition, document, version, stops, sentence, says } = view.data;
  const names = definition.variants.map((v) => v.name);
  const stopped = stops.length > 0;
  const doc = draft?.document ?? document;
  const change = (d: Document) => setDraft({ document: d, version: draft?.version ?? version });
  const stale = [save.error, tried.error].find((e): e is ApiProblem => e instanceof ApiProblem && e.status === 412) ?? (draft && draft.version < version ? new ApiProblem(412, "", [], {}) : undefined);
  const submit = () => {
    if (!draft) return;
    const sent = draft.document;
    save.mutate(
      { document: sent, version: draft.version, reason },
      {
        onSuccess: (saved) => {
          setReason("");
          // What was typed while it was being saved goes on, on top of it.
          setDraft((now) => (now === undefined || now.document === sent ? undefined : { document: now.document, version: saved.version }));
        },
      },
    );
  };

  return (
    <Page
      title={
        <span className="flex flex-wrap items-baseline gap-x-3">
          <span className="font-mono text-lg">{flag}</span>
          <span className="text-base font-normal text-soft">{definition.title}</span>
        </span>
      }
      aside={
        <nav aria-label="environments" className="flex gap-1">
          {board.data?.environments.map((e) => (
            <Link key={e.key} to={`/p/${project}/${e.key}/flags/${flag}`} aria-current={e.key === environment ? "page" : undefined} className={`rounded border px-2.5 py-1 ${e.key === environment ? "border-lever font-medium" : "border-line text-soft hover:text-ink"}`}>
              {e.key}
            </Link>
          ))}
        </nav>
      }
    >
      <p className="rounded border border-line bg-sheet px-4 py-3 text-base" data-testid="sentence">
        <b className="font-medium">{environment}: </b>
        <Said text={sentence} names={names} />
      </p>
      <div className="grid gap-4 lg:grid-cols-[1fr_20rem]">
        <div className="flex min-w-0 flex-col gap-4">
          <Sheet title="Track" aside={<span className="text-xs text-soft">version {version}, of revision {view.data.revision}</span>}>
            <div className="flex flex-wrap items-center gap-3 border-b border-line pb-3">
              <Lever position={stopped ? "stopped" : (doc.lever as "on" | "off")} />
              <fieldset className="flex gap-1" aria-label="lever">
                <Button aria-pressed={doc.lever === "off"} className={doc.lever === "off" ? "border-ink! bg-page! font-medium" : "text-soft"} onClick={() => change({ ...doc, lever: "off" })}>
                  off
                </Button>
                <Button aria-pressed={doc.lever === "on"} className={doc.lever === "on" ? "border-ink! bg-page! font-medium" : "text-soft"} onClick={() => change({ ...doc, lever: "on" })}>
                  on
                </Button>
              </fieldset>
              <span className="text-soft">
                resting: <Variant names={names} name={doc.resting} />
              </span>
              <Button tone="bare" className="ml-auto" aria-expanded={values} onClick={() => setValues(!values)}>
                {values ? "close" : "values and needs"}
              </Button>
            </div>
            {values && <Values doc={doc} names={names} flags={board.data?.flags ?? []} onChange={change} />}
            <Track doc={doc} says={draft ? (tried.data?.says ?? []) : says} names={names} segments={segments.data?.items.map((s) => s.key) ?? []} stopped={stopped} editable onChange={change} />
          </Sheet>
          {draft && (
            <SaveBar
              tried={tried.data}
              error={save.error instanceof ApiProblem && save.error.status === 412 ? undefined : (save.error ?? (tried.error instanceof ApiProblem && tried.error.status === 412 ? undefined : tried.error))}
              names={names}
              environment={environment}
              askFirst={askFirst}
              reason={reason}
              onReason={setReason}
              saving={save.isPending}
              onSave={submit}
              onDrop={() => { setDraft(undefined); save.reset(); }}
            />
          )}
        </div>
        <div className="flex flex-col gap-4">
          <StopSheet project={project} environment={environment} flag={flag} stops={stops} askFirst={askFirst} />
          <Given project={project} environment={environment} flag={flag} names={names} />
          <DefinitionSheet project={project} environment={environment} definition={definition} />
        </div>
      </div>
      {stale && draft && (
        <Stale
          mine={draft.document}
          now={view.data}
          names={names}
          onTheirs={() => { setDraft(undefined); save.reset(); }}
          onMine={() => { setDraft({ document: draft.document, version }); save.reset(); }}
        />
      )}
    </Page>
  );
}

interface SaveBarProps {
  tried: Schemas["Saved"] | undefined;
  error: unknown;
  names: string[];
  environment: string;
  askFirst: boolean;
  reason: string;
  onReason: (r: string) => void;
  saving: boolean;
  onSave: () => void;
  onDrop: () => void;
}

/** SaveBar shows what an edit would change, and saves it. */
function SaveBar(p: SaveBarProps) {
  const nothing = p.tried !== undefined && p.tried.difference.length === 0;
  return (
    <section aria-label="edit" className="sticky bottom-3 flex flex-col gap-2 rounded border border-lever bg-sheet p-4 shadow-md">
      <h2 className="font-medium">This edit changes in {p.environment}</h2>
      <ul className="max-h-40 list-disc overflow-auto pl-5" data-testid="difference">
        {p.tried?.difference.map((line) => (
          <li key={line}>
            <Said text={line} names={p.names} />
          </li>
        ))}
        {nothing && <li>nothing: it is like that already</li>}
      </ul>
      {p.tried && !nothing && (
        <p className="text-soft">
          Then: <Said text={p.tried.sentence} names={p.names} />
        </p>
      )}
      <Problem error={p.error} />
      <div className="flex flex-wrap items-end gap-2">
        <input
          aria-label="reason"
          className={`${inputStyle} min-w-0 flex-1 basis-60`}
          placeholder={p.askFirst ? "why? (this environment asks first)" : "why? (may be left out)"}
          value={p.reason}
          onChange={(e) => p.onReason(e.target.value)}
        />
        <Button tone="lever" disabled={p.saving || nothing || Boolean(p.error && !p.saving && !p.tried) || (p.askFirst && p.reason.trim() === "")} onClick={p.onSave}>
          {p.saving ? "saving ..." : `Save in ${p.environment}`}
        </Button>
        <Button onClick={p.onDrop}>Drop the edit</Button>
      </div>
    </section>
  );
}

/** Stale shows both sides of an edit that somebody else was quicker than. */
function Stale({ mine, now, names, onTheirs, onMine }: { mine: Document; now: Schemas["FlagView"]; names: string[]; onTheirs: () => void; onMine: () => void }) {
  const [kept, setKept] = useState(false);
  const copy = JSON.stringify(mine, null, 2);
  return (
    <Dialog open={!kept} onClose={() => setKept(true)} title="Somebody changed this flag meanwhile">
      <p>Your edit is not lost. Look at both sides:</p>
      <div className="grid gap-3 sm:grid-cols-2">
        <div>
          <h3 className="font-medium">As it stands now (version {now.version})</h3>
          <p className="mt-1">
            <Said text={now.sentence} names={names} />
          </p>
          <ul className="mt-1 list-disc pl-5 text-soft">
            {now.says.map((s, i) => (
              <li key={s}>
                {now.document.rules?.[i]?.name ?? "end"}: <Said text={s} names={names} />
              </li>
            ))}
          </ul>
        </div>
        <div>
          <h3 className="font-medium">Your edit</h3>
          <pre className="mt-1 max-h-64 overflow-auto rounded border border-line bg-page p-2 text-xs">{copy}</pre>
        </div>
      </div>
      <div className="flex flex-wrap gap-2">
        <Button tone="lever" onClick={onMine}>
          Put my edit on top of it
        </Button>
        <Button onClick={onTheirs}>Take what stands, drop my edit</Button>
      </div>
      <p className="text-xs text-soft">On top of it: the difference is shown again before you save, and says what of theirs would go.</p>
    </Dialog>
  );
}

function StopSheet({ project, environment, flag, stops, askFirst }: { project: string; environment: string; flag: string; stops: Schemas["StopView"][]; askFirst: boolean }) {
  const stop = useStop(project, environment);
  const lift = useLift(project, environment);
  const [why, setWhy] = useState("");
  return (
    <Sheet title={stops.length > 0 ? "Stopped" : "Stop"}>
      {stops.length === 0 && (
        <>
          <p className="mb-2 text-soft">Everybody gets the resting variant at once, over everything else.</p>
          <Button tone="alarm" disabled={stop.isPending} onClick={() => stop.mutate({ flags: [flag], reason: "" })}>
            Stop {flag} in {environment}
          </Button>
        </>
      )}
      {stops.map((s) => (
        <div key={s.id} className="mb-2">
          <div>
            by {s.byName}, <Time ms={s.at} />
          </div>
          {s.reason && <div className="text-soft">{s.reason}</div>}
        </div>
      ))}
      {stops.length > 0 && (
        <div className="flex flex-col gap-2">
          <Link className="underline" to={`/p/${project}/${environment}/stop`}>
            See who has it
          </Link>
          {askFirst && <input aria-label="why lift" className={inputStyle} placeholder="why lift it?" value={why} onChange={(e) => setWhy(e.target.value)} />}
          <Button disabled={lift.isPending || (askFirst && why.trim() === "")} onClick={() => lift.mutate({ stops: stops.map((s) => s.id), reason: why })}>
            Lift {stops.length > 1 ? `all ${stops.length} stops` : "the stop"}
          </Button>
        </div>
      )}
      <Problem error={stop.error ?? lift.error} />
    </Sheet>
  );
}

/** Given shows what was decided in the last hour. */
function Given({ project, environment, flag, names }: { project: string; environment: string; flag: string; names: string[] }) {
  const counts = useCounts(project, environment);
  const mine = counts.data?.items.filter((c) => c.flag === flag) ?? [];
  const total = mine.reduce((sum, c) => sum + c.count, 0);
  return (
    <Sheet title="Given in the last hour">
      {total === 0 && <p className="text-soft">No service has asked for this flag yet.</p>}
      <ul className="flex flex-col gap-1">
        {mine.map((c) => (
          <li key={c.variant ?? ""} className="flex justify-between gap-2">
            {c.variant ? <Variant names={names} name={c.variant} /> : <span className="text-alarm">fallback</span>}
            <span className="tabular-nums">
              {c.count.toLocaleString()} <span className="text-soft">({((100 * c.count) / total).toFixed(1)} %)</span>
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
