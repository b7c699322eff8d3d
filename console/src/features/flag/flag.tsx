import { useEffect, useMemo, useState, type ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { ApiProblem, type Schemas } from "../../api/client";
import { useBoard, useEditDefinition, useFlag, useInstances, useLift, useSaveFlag, useStop, useTry, type SaveFlag } from "../../api/queries";
import { useUsage } from "../../api/usage";
import { processName } from "../../ui/processes";
import { useAround, useTrack } from "../../api/targeting";
import { ConditionAround } from "../../ui/condition";
import { Button, Dialog, inputStyle, Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { useGuard, useKeep, useKept } from "../../draft/kept";
import { Lever } from "../../ui/lever";
import { Said, Variant } from "../../ui/variant";
import { DefinitionSheet } from "./definition";
import { PreviewSheet, Sweep } from "./preview";
import { Checks, SeeAs, SetUpLine, Snippets, Who } from "./sheets";
import { Track } from "./track";
import { Values } from "./values";
import { takeOut } from "../../ui/typed";

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
  const [query] = useSearchParams();
  // A page for each flag and environment, so that no draft is carried from one to another.
  return <FlagIn key={`${project} ${environment} ${flag}`} project={project} environment={environment} flag={flag} unit={query.get("name") ?? ""} />;
}

interface Draft {
  document: Document;
  version: number; // that it was begun on
}

function FlagIn({ project, environment, flag, unit }: { project: string; environment: string; flag: string; unit: string }) {
  const view = useFlag(project, environment, flag);
  const board = useBoard(project);
  const around = useAround(project, environment, flag);
  const track = useTrack(project, environment, flag);
  const name = `${project} ${environment} ${flag}`;
  const before = useKept<{ draft: Draft; reason: string }>(name);
  const [draft, setDraft] = useState(before?.draft);
  const [past, setPast] = useState<(Draft | undefined)[]>([]);
  const [who, setWho] = useState<{ place: string; title: string }>();
  const [units, setUnits] = useState("");
  const [reason, setReason] = useState(before?.reason ?? "");
  useKeep(name, `/p/${project}/${environment}/flags/${flag}`, `${flag} in ${environment}`, useMemo(() => draft && { draft, reason }, [draft, reason]));
  const [values, setValues] = useState(false);
  const save = useSaveFlag(project, environment, flag);
  const askFirst = view.data?.environment.askFirst ?? false;
  // A dry run shows the difference before a reason is typed.
  const asked = useSettled(draft, 250);
  const edit: SaveFlag | undefined = asked && { document: asked.document, version: asked.version, reason: "not said yet" };
  const tried = useTry(project, environment, flag, draft && edit);

  useGuard(draft !== undefined);

  if (view.isPending) return <Waiting what={flag} />;
  if (!view.data) return <Page title={flag}><Problem error={view.error} /></Page>;
  const { definition, document, version, stops, sentence, says } = view.data;
  const names = definition.variants.map((v) => v.name);
  const stopped = stops.length > 0;
  const doc = draft?.document ?? document;
  const change = (d: Document) => {
    setPast([...past.slice(-99), draft]);
    setDraft({ document: d, version: draft?.version ?? version });
  };
  const undo = () => {
    setDraft(past.at(-1));
    setPast(past.slice(0, -1));
  };
  const shift = tried.data?.preview?.shifts[0];
  // What is saved is what was shown: an edit that was not tried yet waits.
  const current = asked === draft && !tried.isPlaceholderData && !tried.isFetching;
  const sweeps = askFirst && shift?.sweep === true && shift.units.units > 0;
  const stale = [save.error, tried.error].find((e): e is ApiProblem => e instanceof ApiProblem && e.status === 412) ?? (draft && draft.version < version ? new ApiProblem(412, "", [], {}) : undefined);
  const submit = () => {
    if (!draft) return;
    const sent = draft.document;
    save.mutate(
      { document: withSalts(sent, tried.data?.document), version: draft.version, reason, ...(sweeps && { units: Number(units) }) },
      {
        onSuccess: (saved) => {
          takeOut(setReason, reason);
          takeOut(setUnits, units);
          setPast([]);
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
        <Said said={sentence} names={names} />
      </p>
      <TooOld project={project} environment={environment} flag={flag} resting={document.resting} />
      <SetUpLine definition={definition} asked={view.data.asked} given={!stopped && document.lever === "on"} />
      {who && <Who project={project} environment={environment} flag={flag} at={who.place} title={`Who is on ${who.title}`} onClose={() => setWho(undefined)} />}
      <div className={`grid gap-4 ${draft ? "lg:grid-cols-[1fr_25rem]" : "lg:grid-cols-[1fr_20rem]"}`}>
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
            <ConditionAround value={around}>
              <Track
                doc={doc}
                says={draft ? (tried.data?.says ?? []) : says}
                names={names}
                shift={draft ? withNewIds(shift, doc, tried.data?.document) : track.data?.shifts[0]}
                edited={draft !== undefined}
                stopped={stopped}
                editable
                onChange={change}
                onWho={(place, title) => setWho({ place, title })}
                unit={unit}
                newVariant={<NewVariant project={project} definition={definition} onMade={(name, value) => setDraft((now) => (now && now.version <= version ? { document: { ...now.document, variants: { ...now.document.variants, [name]: value } }, version: version + 1 } : now))} />}
              />
            </ConditionAround>
          </Sheet>
        </div>
        <div className="flex min-w-0 flex-col gap-4">
          {draft && (
            <SaveBar
              tried={tried.data}
              preview={
                tried.data?.preview && (
                  <>
                    <PreviewSheet project={project} environment={environment} doc={withIds(draft.document, tried.data.document)} preview={tried.data.preview} names={names} onChange={change} />
                    {sweeps && <Sweep key={draft.version} shift={shift} value={units} onChange={setUnits} />}
                  </>
                )
              }
              waits={!current || (sweeps && units.trim() === "")}
              onUndo={past.length > 0 ? undo : undefined}
              error={save.error instanceof ApiProblem && save.error.status === 412 ? undefined : (save.error ?? (tried.error instanceof ApiProblem && tried.error.status === 412 ? undefined : tried.error))}
              names={names}
              environment={environment}
              askFirst={askFirst}
              reason={reason}
              onReason={setReason}
              saving={save.isPending}
              onSave={submit}
              onDrop={() => { setDraft(undefined); setPast([]); save.reset(); }}
            />
          )}
          <Checks project={project} environment={environment} definition={definition} />
          <StopSheet project={project} environment={environment} flag={flag} stops={stops} askFirst={askFirst} />
          <Given project={project} environment={environment} flag={flag} names={names} />
          <DefinitionSheet project={project} environment={environment} definition={definition} />
          <Snippets project={project} environment={environment} flag={flag} />
          <SeeAs project={project} environment={environment} flag={flag} names={names} askFirst={askFirst} />
        </div>
      </div>
      {draft && <div className="h-[45vh] lg:hidden" /> /* room below what the edit covers */}
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

/** withIds gives new rules of an edit the ids that its dry run gave them. */
function withIds(mine: Document, tried: Document): Document {
  return { ...mine, rules: (mine.rules ?? []).map((r, i) => ({ ...r, id: r.id || (tried.rules?.[i]?.id ?? "") })) };
}

/** withNewIds has a shift speak of new rules as the edit does: without an id. */
function withNewIds(shift: Schemas["Shift"] | undefined, mine: Document, tried: Document | undefined): Schemas["Shift"] | undefined {
  if (!shift || !tried) return shift;
  const fresh = new Map((mine.rules ?? []).flatMap((r, i) => (r.id === "" && tried.rules?.[i] ? [[tried.rules[i].id, ""]] : [])));
  return { ...shift, branches: shift.branches.map((b) => ({ ...b, place: fresh.get(b.place) ?? b.place })) };
}

function salted(g: Schemas["Gives"], as: Schemas["Gives"] | undefined): Schemas["Gives"] {
  return g.shares?.drawAnew && as?.shares ? { shares: { ...g.shares, salt: as.shares.salt } } : g;
}

/** withSalts sends the salts that the dry run chose, so that what was shown is what happens. */
function withSalts(mine: Document, tried: Document | undefined): Document {
  const when = (i: number) => tried?.rules?.[i]?.when;
  return { ...mine, rules: (mine.rules ?? []).map((r, i) => ({ ...r, ...(r.when && when(i) && { when: when(i)! }), gives: salted(r.gives, tried?.rules?.[i]?.gives) })), end: salted(mine.end, tried?.end) };
}

/** NewVariant adds a variant from inside a rule; it is added in all environments at once. */
function NewVariant({ project, definition, onMade }: { project: string; definition: Schemas["Definition"]; onMade: (name: string, value: unknown) => void }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const [reason, setReason] = useState("");
  const edit = useEditDefinition(project, definition.key);
  if (!open) {
    return (
      <Button tone="bare" className="self-start" onClick={() => setOpen(true)}>
        new variant
      </Button>
    );
  }
  const parsed = parse(definition.type, value);
  return (
    <div className="flex flex-wrap items-center gap-2 rounded border border-line bg-page p-2">
      <input aria-label="name of the variant" className={`${inputStyle} w-36`} placeholder="name" value={name} onChange={(e) => setName(e.target.value)} />
      <input aria-label="value of the variant" className={`${inputStyle} w-44 font-mono text-[13px]`} placeholder={`its value, a ${definition.type}`} value={value} onChange={(e) => setValue(e.target.value)} />
      <input aria-label="why the variant" className={`${inputStyle} min-w-0 flex-1`} placeholder="why? (it is added in all environments)" value={reason} onChange={(e) => setReason(e.target.value)} />
      <Button
        disabled={name === "" || parsed === undefined || edit.isPending}
        onClick={() =>
          edit.mutate(
            { version: definition.version, body: { addVariants: [{ name, value: parsed }], reason } as Schemas["DefinitionEdit"] },
            { onSuccess: () => { onMade(name, parsed); setOpen(false); takeOut(setName, name); takeOut(setValue, value); } },
          )
        }
      >
        Add the variant
      </Button>
      <Button tone="bare" onClick={() => setOpen(false)}>
        close
      </Button>
      <Problem error={edit.error} />
    </div>
  );
}

function parse(type: string, text: string): unknown {
  if (type === "string") return text;
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}

interface SaveBarProps {
  tried: Schemas["SavedFlag"] | undefined;
  preview: ReactNode;
  waits: boolean; // for something that is still to be typed
  onUndo: (() => void) | undefined;
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
    <section aria-label="edit" className="z-10 flex flex-col gap-2 overflow-auto *:shrink-0 rounded border border-lever bg-sheet p-4 shadow-md max-lg:fixed max-lg:inset-x-3 max-lg:bottom-3 max-lg:max-h-[45vh] lg:sticky lg:top-16 lg:max-h-[calc(100vh-5rem)]">
      <h2 className="font-medium">This edit changes in {p.environment}</h2>
      <ul className="max-h-40 list-disc overflow-auto pl-5" data-testid="difference">
        {p.tried?.difference.map((line) => (
          <li key={line.text}>
            <Said said={line} names={p.names} />
          </li>
        ))}
        {nothing && <li>nothing: it is like that already</li>}
      </ul>
      {!nothing && p.preview}
      {p.tried && !nothing && (
        <p className="text-soft">
          Then: <Said said={p.tried.sentence} names={p.names} />
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
        <Button tone="lever" disabled={p.saving || p.waits || nothing || Boolean(p.error && !p.saving && !p.tried) || (p.askFirst && p.reason.trim() === "")} onClick={p.onSave}>
          {p.saving ? "saving ..." : `Save in ${p.environment}`}
        </Button>
        {p.onUndo && <Button onClick={p.onUndo}>Undo</Button>}
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
            <Said said={now.sentence} names={names} />
          </p>
          <ul className="mt-1 list-disc pl-5 text-soft">
            {now.says.map((s, i) => (
              <li key={s.text}>
                {now.document.rules?.[i]?.name ?? "end"}: <Said said={s} names={names} />
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
          <p className="mb-2 text-soft">All get the resting variant at once, over everything else.</p>
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
  const usage = useUsage(project, environment, "1h", flag);
  const given = usage.data?.now ?? [];
  const total = given.reduce((sum, c) => sum + c.total, 0);
  return (
    <Sheet
      title="Given in the last hour"
      aside={
        <Link className="underline" to={`/p/${project}/${environment}/usage?flag=${flag}`}>
          over time
        </Link>
      }
    >
      {total === 0 && <p className="text-soft">No service has asked for this flag yet.</p>}
      <ul className="flex flex-col gap-1">
        {given.map((c) => (
          <li key={c.variant ?? ""} className="flex justify-between gap-2">
            {c.variant ? <Variant names={names} name={c.variant} /> : <span className="text-alarm">fallback</span>}
            <span className="tabular-nums">
              {c.total.toLocaleString()} <span className="text-soft">({((100 * c.total) / total).toFixed(1)} %)</span>
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

/** TooOld names the processes that do not understand something that the flag asks for. */
function TooOld({ project, environment, flag, resting }: { project: string; environment: string; flag: string; resting: string }) {
  const d = useInstances(project, environment);
  const old = [...(d.data?.instances ?? []), ...(d.data?.lost ?? [])].filter((i) => i.tooOld?.includes(flag));
  if (old.length === 0) return null;
  return (
    <p role="status" className="text-alarm">
      {old.length === 1 ? "One process is" : `${old.length} processes are`} too old for this flag and {old.length === 1 ? "gives" : "give"} {resting}: {[...new Set(old.map(processName))].join(", ")}
    </p>
  );
}
