import { useEffect, useMemo, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { ApiProblem, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useFlag, useSaveFlag, useTry, type SaveFlag } from "../../api/queries";
import { useTrack } from "../../api/targeting";
import { useProposeFlag } from "../../api/together";
import { useAround } from "../../parts/around";
import { asDraft, asTried, flagRules, incomplete, toSend, type DraftDocument } from "../../draft/flag";
import { useReason } from "../../draft/reason";
import { equal } from "../../draft/equal";
import { useDraft } from "../../draft/use";
import { Frozen } from "../../parts/freezes";
import { Environments } from "../../parts/environments";
import { ConditionAround } from "../../ui/condition";
import { Button, Page, Problem, Sheet, Waiting } from "../../ui/controls";
import { Lever } from "../../ui/lever";
import { Said, Variant } from "../../ui/variant";
import { Word } from "../../ui/word";
import { CopyRules } from "./copy-rules";
import { DefinitionSheet } from "./definition";
import { Life } from "./life";
import { EditPanel } from "./edit-panel";
import { Facts } from "./facts";
import { Given } from "./given";
import { NewVariant } from "./new-variant";
import { CopyPicture } from "./picture";
import { Platforms } from "./platforms";
import { PreviewSheet, Sweep } from "../../parts/preview";
import { Checks, SeeAs, Snippets, Who } from "./sheets";
import { ReleaseLine } from "./release-line";
import { StopSheet } from "./stop-sheet";
import { Track } from "./track";
import { Values } from "./values";

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

/** behind tells of an edit that others were quicker than: what they saved is taken in. */
const behind = (e: unknown) => e instanceof ApiProblem && e.status === 412;

function FlagIn({ project, environment, flag, unit }: { project: string; environment: string; flag: string; unit: string }) {
  const view = useFlag(project, environment, flag);
  const around = useAround(project, environment, flag);
  const track = useTrack(project, environment, flag);
  const stands = useMemo(() => view.data && asDraft(view.data.document), [view.data]);
  const editing = useDraft<DraftDocument>({
    name: `${project} ${environment} ${flag}`,
    to: `/p/${project}/${environment}/flags/${flag}`,
    what: `${flag} in ${environment}`,
    base: stands,
    version: view.data?.version ?? 0,
    rules: flagRules,
  });
  const [who, setWho] = useState<{ place: string; title: string }>();
  const [units, setUnits] = useState("");
  const [reason, setReason] = useReason(`${project} ${flag}`);
  const [values, setValues] = useState(false);
  const save = useSaveFlag(project, environment, flag);
  const release = useMay(project, "release");
  const proposing = useMay(project, "propose");
  const propose = useProposeFlag(project, environment, flag);
  const go = useNavigate();
  const draft = editing.draft;
  // A dry run shows the difference before a reason is typed.
  const asked = useSettled(draft, 250);
  const edit: SaveFlag | undefined = useMemo(() => asked && { document: toSend(asked.now), version: asked.version, reason: "not said yet", ...(!release.may && { propose: true }) }, [asked, release.may]);
  const tried = useTry(project, environment, flag, draft && edit);

  if (view.isPending) return <Waiting what={flag} />;
  if (!view.data || !editing.value) return <Page title={flag}><Problem error={view.error} /></Page>;
  const { definition, document, stops, sentence } = view.data;
  const names = definition.variants.map((v) => v.name);
  const stopped = stops.length > 0;
  const askFirst = view.data.environment.askFirst;
  const doc = editing.value;
  const editable = release.may || proposing.may;
  const open = draft !== undefined;
  const shown = open ? tried.data : undefined;
  const says = new Map<string, Schemas["Said"]>();
  const stood = stands?.rules ?? [];
  // What the edit left as it was is said as before, until the service has looked at the edit.
  doc.rules.forEach((r) => {
    const at = stood.findIndex((o) => equal(o, r));
    if (at >= 0 && view.data.says[at]) says.set(r.id, view.data.says[at]);
  });
  if (equal(stands?.end, doc.end) && view.data.says.at(-1)) says.set("end", view.data.says.at(-1)!);
  shown?.document.rules?.forEach((r, i) => shown.says[i] && says.set(r.id, shown.says[i]));
  if (shown?.says.at(-1)) says.set("end", shown.says.at(-1)!);
  const shift = shown?.preview?.shifts[0];
  const sweeps = askFirst && shift?.sweep === true && shift.units.units > 0;
  const nobody = incomplete(doc);
  // What is saved is what was shown: an edit that was not tried yet waits.
  const current = asked === draft && !tried.isPlaceholderData && !tried.isFetching;
  const error = [save.error, propose.error, tried.error].find((e) => e && !behind(e));
  const waits = nobody[0]
    ? `${nobody[0].name} takes nobody until it says whom.`
    : sweeps && units.trim() === ""
      ? "Type the number of units first."
      : "";
  const submit = () => {
    if (!draft) return;
    const sent = draft.now;
    if (shown) editing.attempt(asDraft(shown.document));
    save.mutate(
      { document: asTried(toSend(sent), tried.data?.document), version: draft.version, reason, ...(sweeps && { units: Number(units) }) },
      {
        onSuccess: (saved) => {
          setUnits("");
          editing.saved(sent, asDraft(saved.document), saved.version);
          window.document.querySelector<HTMLElement>("[data-testid=sentence]")?.focus();
        },
      },
    );
  };

  const submitProposal = () => {
    if (!draft) return;
    propose.mutate(
      { document: asTried(toSend(draft.now), tried.data?.document), version: draft.version, reason, ...(sweeps && { units: Number(units) }) },
      {
        onSuccess: (p) => {
          editing.drop();
          void go(`/p/${project}/proposals/${p.id}`);
        },
      },
    );
  };

  return (
    <Page
      name={`${flag} in ${environment}`}
      title={
        <span className="flex flex-wrap items-baseline gap-x-3">
          <span className="font-mono text-lg break-all">{flag}</span>
          <span className="text-base font-normal text-soft">{definition.title}</span>
        </span>
      }
      aside={<Environments project={project} environment={environment} to={(e) => `/p/${project}/${e}/flags/${flag}`} />}
    >
      <Frozen project={project} environment={environment} flag={flag} />
      <div className="flex flex-col gap-4 rounded border border-line bg-sheet p-4">
        <p tabIndex={-1} className="text-base" data-testid="sentence">
          <b className="font-semibold">{environment}: </b>
          <Said said={sentence} names={names} />
        </p>
        <Platforms names={names} shift={open ? shift : track.data?.shifts[0]} edited={open} />
        <ReleaseLine project={project} environment={environment} flag={flag} names={names} />
        <Facts project={project} environment={environment} view={view.data} />
      </div>
      {who && <Who project={project} environment={environment} flag={flag} at={who.place} title={`Who is on ${who.title}`} onClose={() => setWho(undefined)} />}
      <div className={`grid gap-4 ${open ? "lg:grid-cols-[minmax(0,1fr)_26rem]" : "lg:grid-cols-[minmax(0,1fr)_20rem]"}`}>
        <Sheet
          title={<Word of="track">Track</Word>}
          aside={
            <span className="flex flex-wrap items-center gap-2">
              <CopyPicture flag={flag} environment={environment} doc={doc} says={says} names={names} shift={open ? shift : track.data?.shifts[0]} sentence={sentence.text} />
              <CopyRules project={project} environment={environment} flag={flag} names={names} disabled={open} />
            </span>
          }
        >
          <div className="flex flex-col gap-4">
            <div className="flex flex-wrap items-center gap-3">
              <Word of="lever" />
              <Lever position={stopped ? "stopped" : (doc.lever as "on" | "off")} />
              <fieldset className="flex gap-1" aria-label="lever">
                {(["off", "on"] as const).map((l) => (
                  <Button key={l} disabled={!editable} aria-pressed={doc.lever === l} className={doc.lever === l ? "border-2! border-ink! font-medium" : "text-soft"} onClick={() => editing.edit({ ...doc, lever: l })}>
                    {l}
                  </Button>
                ))}
              </fieldset>
              <span className="text-soft">
                <Word of="resting variant">resting</Word>: <Variant names={names} name={doc.resting} />
              </span>
              <Button tone="bare" className="ml-auto underline" aria-expanded={values} onClick={() => setValues(!values)}>
                {values ? "close" : "values and needs"}
              </Button>
            </div>
            {!release.may && <p className="text-soft">{proposing.may ? "You may propose changes of it" : "You may look at it"}. To change it: {release.takes}.</p>}
            {values && editable && <Values project={project} doc={doc} names={names} onChange={editing.edit} />}
            <ConditionAround value={around}>
              <Track
                doc={doc}
                says={says}
                names={names}
                shift={open ? shift : track.data?.shifts[0]}
                stood={stands}
                edited={open}
                stopped={stopped}
                editable={editable}
                onChange={editing.edit}
                onWho={(place, title) => setWho({ place, title })}
                unit={unit}
                newVariant={<NewVariant project={project} definition={definition} />}
              />
            </ConditionAround>
          </div>
        </Sheet>
        <div className="flex min-w-0 flex-col gap-4">
          {open && (
            <EditPanel
              editing={editing}
              tried={shown}
              preview={
                shown?.preview && (
                  <>
                    <PreviewSheet project={project} environment={environment} doc={{ ...toSend(doc), rules: shown.document.rules ?? [] }} preview={shown.preview} names={names} onOrder={(order) => editing.edit({ ...doc, rules: doc.rules.toSorted((a, b) => placeIn(order, a.id) - placeIn(order, b.id)) })} />
                    {sweeps && <Sweep key={draft.version} shift={shift} value={units} onChange={setUnits} />}
                  </>
                )
              }
              waits={waits}
              current={current}
              error={error}
              names={names}
              environment={environment}
              askFirst={askFirst}
              reason={reason}
              onReason={setReason}
              saving={save.isPending || propose.isPending}
              mayRelease={release.may}
              signing={view.data.environment.signing}
              onPropose={proposing.may ? submitProposal : undefined}
              onSave={submit}
              onDrop={() => {
                editing.drop();
                save.reset();
                window.document.querySelector<HTMLElement>("[data-testid=sentence]")?.focus();
              }}
              side={(path, value) => sideOf(path, value, view.data, names)}
            />
          )}
          <StopSheet project={project} environment={environment} flag={flag} loses={definition.loses} stops={stops} askFirst={askFirst} />
          <Given project={project} environment={environment} flag={flag} names={names} />
          <DefinitionSheet project={project} definition={definition} />
          <Life project={project} flag={flag} />
          <Snippets project={project} environment={environment} flag={flag} />
          <SeeAs project={project} environment={environment} flag={flag} names={names} askFirst={askFirst} resting={document.resting} />
          <Checks project={project} environment={environment} definition={definition} />
        </div>
      </div>
      {open && <div className="h-[48vh] lg:hidden" /> /* room below what the edit covers */}
    </Page>
  );
}

/** placeIn is where a rule stands in an order; what the service has not seen yet stands last. */
const placeIn = (order: string[], id: string) => (order.includes(id) ? order.indexOf(id) : order.length);

/** sideOf shows one side of what two people changed: a rule of theirs by its sentence, anything else as it is. */
function sideOf(path: string[], value: unknown, view: Schemas["FlagView"], names: string[]) {
  const [first, id, field] = path;
  const i = first === "rules" ? (view.document.rules ?? []).findIndex((r) => r.id === id) : first === "end" ? (view.document.rules ?? []).length : -1;
  const theirs = i >= 0 && (first === "end" ? view.document.end : field === undefined ? view.document.rules?.[i] : (view.document.rules?.[i] as Record<string, unknown> | undefined)?.[field]);
  if (theirs && JSON.stringify(theirs) === JSON.stringify(value) && view.says[i]) return <Said said={view.says[i]} names={names} />;
  return typeof value === "string" ? <>{value}</> : <pre className="text-xs whitespace-pre-wrap">{JSON.stringify(value, null, 1)}</pre>;
}
