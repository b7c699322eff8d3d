import { useEffect, useMemo, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ApiProblem, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useChange, useEnvironments, useSegments } from "../../api/queries";
import { sendList, usePopulation, useTrySegment, type ListMode } from "../../api/targeting";
import { useDraft } from "../../draft/use";
import { Titled } from "../../parts/titled";
import { useAround } from "../../parts/around";
import { ConditionAround, ConditionEditor, type Node } from "../../ui/condition";
import { Button, inputStyle, Problem, Select, Sheet, TextField, wrongIn } from "../../ui/controls";
import { DraftTools } from "../../ui/draft-tools";
import { About, Part } from "../../ui/estimate";
import { Rows } from "../../ui/rows";
import { closed } from "../../ui/typed";
import { Said } from "../../ui/variant";
import { Word } from "../../ui/word";
import { Place } from "./place";

/** SegmentsPage is the segments of an environment and what is kept of its units. */
export default function SegmentsPage() {
  const { project = "", environment = "" } = useParams();
  return (
    <Place>
      <Samples project={project} environment={environment} />
      <Segments key={environment} project={project} environment={environment} />
    </Place>
  );
}

function Samples({ project, environment }: { project: string; environment: string }) {
  const population = usePopulation(project, environment);
  if (population.isPending) {
    return (
      <Sheet title="Recently seen">
        <p className="h-11 text-soft">reading ...</p>
      </Sheet>
    );
  }
  if (!population.data) return <Problem error={population.error} />;
  const { samples, off, days } = population.data;
  return (
    <Sheet title="Recently seen" aside={<span className="text-xs text-soft">{off ? "sampling is switched off" : `units are kept ${days} days after they were last seen`}</span>}>
      <dl className="flex flex-wrap gap-x-8 gap-y-1">
        {samples.map((s) => (
          <div key={s.of}>
            <dt className="inline font-mono text-[13px] text-soft">{s.of === "targetingKey" ? "units" : s.of}</dt>{" "}
            <dd className="inline">
              <About e={s.units} />
            </dd>
          </div>
        ))}
      </dl>
      {samples[0]?.units.counted === 0 && !off && <p className="mt-1 text-soft">Nobody was seen yet: units are sampled as soon as a service asks for flags.</p>}
    </Sheet>
  );
}

function Segments({ project, environment }: { project: string; environment: string }) {
  const segments = useSegments(project, environment);
  const environments = useEnvironments(project);
  const { may: developer, takes } = useMay(project, "define");
  const [query] = useSearchParams();
  const [open, setOpen] = useState<string | undefined>(query.get("segment") ?? undefined);
  const asks = environments.data?.items.some((e) => e.askFirst) ?? false;
  const asksHere = environments.data?.items.find((e) => e.key === environment)?.askFirst ?? false;
  const add = useChange(project, (body: Schemas["SegmentBody"]) => must(api.POST("/api/v1/projects/{project}/segments", { params: { path: { project } }, body })));
  // Closes what was saved, and nothing else that was opened meanwhile.
  const close = (form: string) => ({ onSuccess: () => setOpen(closed(form)) });
  return (
    <Sheet title={<Word of="segment">Segments</Word>} aside={!developer && <span className="text-xs text-soft">{takes}</span>}>
      <Rows items={segments.data?.items ?? []} keyOf={(s) => s.key} guess={96} label="segments">
        {(s) => (
          <div className="mb-3 border-b border-line pb-3">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <b className="font-medium">{s.key}</b>
              <Titled project={project} of={`segment ${s.key}`} title={s.title} may={developer} asks={false} save={(body) => must(api.PATCH("/api/v1/projects/{project}/segments/{segment}", { params: { path: { project, segment: s.key } }, body }))} />
              <span className="text-[13px]">
                takes <About e={s.units} /> units, <Part e={s.units} />
              </span>
              {developer && (
                <Button tone="bare" aria-label={`${open === s.key ? "close" : "edit"} segment ${s.key}`} onClick={() => setOpen(open === s.key ? undefined : s.key)}>
                  {open === s.key ? "close" : "edit"}
                </Button>
              )}
            </div>
            <div><Said said={s.sentence} /></div>
            <div className="text-[13px] text-soft">
              {s.usedBy.length === 0 && "not used"}
              {s.usedBy.length > 0 && "used by "}
              {s.usedBy.map((u, i) => (
                <span key={u}>
                  {i > 0 && ", "}
                  {u.startsWith("segment ") ? u : <Link className="underline" to={`/p/${project}/${environment}/flags/${u}`}>{u}</Link>}
                </span>
              ))}
            </div>
            {open === s.key && <SegmentEditor project={project} environment={environment} segment={s} asks={asksHere} onSaved={() => setOpen(closed(s.key))} />}
          </div>
        )}
      </Rows>
      {segments.data?.items.length === 0 && <p className="text-soft">There is none yet. A segment is an audience that many rules can name, such as the staff.</p>}
      {developer && segments.data && (environments.data?.items.length ?? 0) > 0 && (
        <div className="mt-3">
          {open === "" ? (
            <NewSegment project={project} environment={environment} asks={asks} error={add.error} onSave={(body, done) => add.mutate(body, { onSuccess: () => { done(); close("").onSuccess(); } })} />
          ) : (
            <Button onClick={() => setOpen("")}>New segment</Button>
          )}
        </div>
      )}
    </Sheet>
  );
}

interface NewFields {
  key: string;
  title: string;
  when?: Node | undefined;
  units: string;
}

const blank: NewFields = { key: "", title: "", units: "" };

function NewSegment({ project, environment, asks, error, onSave }: { project: string; environment: string; asks: boolean; error: unknown; onSave: (body: Schemas["SegmentBody"], done: () => void) => void }) {
  const around = useAround(project, environment);
  const editing = useDraft<NewFields>({ name: `${project} new segment`, to: `/p/${project}/${environment}/population`, what: "a new segment", base: blank, version: 1, rules: segmentRules });
  const now = editing.value ?? blank;
  const [reason, setReason] = useState("");
  const wrong = wrongIn(error);
  const listed = lines(now.units);
  return (
    <form
      className="mt-2 flex flex-col gap-3 rounded border border-edge p-3"
      onSubmit={(e) => {
        e.preventDefault();
        onSave({ key: now.key, title: now.title, reason, ...(now.when && { when: now.when }), ...(listed.length > 0 && { in: { units: listed } }) }, editing.drop);
      }}
    >
      <div className="flex flex-wrap gap-3">
        <TextField label="Key of the segment" className="font-mono" required value={now.key} error={wrong("key")} onChange={(e) => editing.edit({ ...now, key: e.target.value }, "key")} />
        <TextField label="Title" value={now.title} error={wrong("title")} onChange={(e) => editing.edit({ ...now, title: e.target.value }, "title")} />
      </div>
      <ConditionAround value={around}>
        <ConditionEditor nobody value={now.when} onChange={(when) => editing.edit({ ...now, when }, "when")} />
      </ConditionAround>
      <UnitLines label="Units listed in" value={now.units} onChange={(units) => editing.edit({ ...now, units }, "units")} />
      {asks && <TextField label="Why" hint="an environment of this project asks first" value={reason} error={wrong("reason")} onChange={(e) => setReason(e.target.value)} />}
      <Problem error={error} beside={["key", "title", "reason"]} />
      <DraftTools editing={editing} place={(path) => path.join(" ")}>
        <Button tone="lever" type="submit">
          Make the segment
        </Button>
      </DraftTools>
    </form>
  );
}

function lines(text: string): string[] {
  return [...new Set(text.split("\n").map((s) => s.trim()).filter((s) => s !== ""))];
}

function UnitLines({ label, value, onChange }: { label: string; value: string; onChange: (v: string) => void }) {
  return (
    <label className="flex flex-col gap-1">
      <span className="font-medium">{label}</span>
      <textarea aria-label={label} rows={3} placeholder="one key a line" className={`${inputStyle} max-w-md font-mono text-[13px]`} value={value} onChange={(e) => onChange(e.target.value)} />
    </label>
  );
}

/** listOf is a list as it is saved: a long one as it stands, a short one as typed. */
function listOf(kept: Schemas["List"] | undefined, typed: string): Schemas["List"] | undefined {
  if (kept?.digest) return kept;
  return lines(typed).length > 0 ? { units: lines(typed) } : undefined;
}

/** What is edited of a segment. */
interface Fields {
  when?: Node | undefined;
  lists: string;
  into: string;
  out: string;
}

const segmentRules = { whole: (path: string[]) => path[0] === "when" };

const placeNames: Record<string, string> = { when: "the condition", lists: "what the lists name", into: "units listed in", out: "units listed out" };

const fieldsOf = (s: Schemas["SegmentView"]): Fields => ({ when: s.when as Node | undefined, lists: s.lists ?? "targetingKey", into: (s.in?.units ?? []).join("\n"), out: (s.out?.units ?? []).join("\n") });

/** SegmentEditor edits a segment and shows what that moves, over all flags that use it. */
function SegmentEditor({ project, environment, segment, asks, onSaved }: { project: string; environment: string; segment: Schemas["SegmentView"]; asks: boolean; onSaved: () => void }) {
  const around = useAround(project, environment, segment.key);
  const base = useMemo(() => fieldsOf(segment), [segment]);
  const editing = useDraft<Fields>({ name: `${project} ${environment} segment ${segment.key}`, to: `/p/${project}/${environment}/population?segment=${segment.key}`, what: `segment ${segment.key} in ${environment}`, base, version: segment.version, rules: segmentRules });
  const fields = editing.value ?? base;
  const { when, lists, into, out } = fields;
  const version = editing.draft?.version ?? segment.version;
  const set = (field: keyof Fields) => (value: Fields[typeof field]) => editing.edit({ ...fields, [field]: value }, field);
  const [reason, setReason] = useState("");
  const body: Schemas["SegmentEdit"] = { lists, reason };
  if (when) body.when = when;
  const inside = listOf(segment.in, into);
  const outside = listOf(segment.out, out);
  if (inside) body.in = inside;
  if (outside) body.out = outside;
  const [asked, setAsked] = useState(body);
  const now = JSON.stringify({ ...body, reason: "" });
  useEffect(() => {
    const timer = setTimeout(() => setAsked(JSON.parse(now) as Schemas["SegmentEdit"]), 300);
    return () => clearTimeout(timer);
  }, [now]);
  const tried = useTrySegment(project, environment, segment.key, version, asked);
  const save = useChange(project, () =>
    must(
      api.PUT("/api/v1/projects/{project}/environments/{environment}/segments/{segment}", {
        params: { path: { project, environment, segment: segment.key }, header: { "If-Match": String(version) } },
        body,
      }),
    ),
  );
  return (
    <div className="mt-2 flex flex-col gap-3 rounded border border-line p-3">
      <ConditionAround value={around}>
        <ConditionEditor nobody value={when} onChange={set("when")} />
      </ConditionAround>
      <label className="flex items-center gap-2">
        The lists name
        <input aria-label="what the lists name" list="known-attributes" className={`${inputStyle} w-44 font-mono text-[13px]`} value={lists} onChange={(e) => set("lists")(e.target.value)} />
      </label>
      <div className="grid gap-3 md:grid-cols-2">
        {segment.in?.digest ? <LongList list={segment.in} /> : <UnitLines label="Units listed in" value={into} onChange={set("into")} />}
        {segment.out?.digest ? <LongList list={segment.out} /> : <UnitLines label="Units listed out, never in the segment" value={out} onChange={set("out")} />}
      </div>
      <Upload project={project} environment={environment} segment={segment.key} asks={asks} />
      <div className="flex flex-wrap items-end gap-2">
        <input aria-label="why change the segment" className={`${inputStyle} min-w-0 flex-1`} placeholder={asks ? "why? (this environment asks first)" : "why? (may be left out)"} value={reason} onChange={(e) => setReason(e.target.value)} />
        <DraftTools editing={editing} place={(path) => placeNames[path[0] ?? ""] ?? path.join(" ")}>
          <Button
            tone="lever"
            disabled={save.isPending || (editing.draft?.meets.length ?? 0) > 0 || (asks && reason.trim() === "")}
            onClick={() =>
              save.mutate(undefined, {
                onSuccess: (saved) => {
                  editing.saved(fields, fields, saved.version);
                  onSaved();
                },
              })
            }
          >
            Save in {environment}
          </Button>
        </DraftTools>
      </div>
      <SegmentShift preview={tried.data?.preview} difference={tried.data?.difference ?? []} project={project} environment={environment} />
      <Problem error={[save.error, tried.error].find((e) => e && !(e instanceof ApiProblem && e.status === 412))} />
    </div>
  );
}

function LongList({ list }: { list: Schemas["List"] }) {
  return (
    <p>
      {(list.count ?? 0).toLocaleString()} listed units <span className="text-soft">(too many to show; load a file to change them)</span>
    </p>
  );
}

function SegmentShift({ preview, difference, project, environment }: { preview: Schemas["Preview"] | undefined; difference: Schemas["Said"][]; project: string; environment: string }) {
  if (!preview || difference.length === 0) return null;
  return (
    <div className="rounded border border-lever p-3" data-testid="preview">
      <ul className="list-disc pl-5">
        {difference.map((d) => (
          <li key={d.text}><Said said={d} /></li>
        ))}
      </ul>
      {preview.shifts.length === 0 && <p>No flag uses it yet, so nobody moves.</p>}
      {preview.shifts.map((s) => (
        <p key={s.flag}>
          <Link className="font-mono text-[13px] underline" to={`/p/${project}/${environment}/flags/${s.flag}`}>
            {s.flag}
          </Link>
          :{" "}
          {s.moved.counted > 0 ? (
            <>
              <About e={s.moved} /> of <About e={s.units} /> units get another variant
            </>
          ) : (
            <Said said={s.says} />
          )}
        </p>
      ))}
    </div>
  );
}

/** Upload loads a list from a file, with progress. */
function Upload({ project, environment, segment, asks }: { project: string; environment: string; segment: string; asks: boolean }) {
  const [file, setFile] = useState<File>();
  const [list, setList] = useState("in");
  const [mode, setMode] = useState<ListMode>("add");
  const [reason, setReason] = useState("");
  const [done, setDone] = useState(0);
  const send = useChange(project, (f: File) => sendList({ project, environment, segment, list, mode, reason }, f, setDone));
  return (
    <div className="flex flex-wrap items-center gap-2 text-[13px]">
      <span>From a file, one key a line:</span>
      <input aria-label="file of units" type="file" onChange={(e) => { setFile(e.target.files?.[0]); setDone(0); }} />
      <Select aria-label="what to do with the file" value={mode} onChange={(e) => setMode(e.target.value as ListMode)} options={[{ value: "add", label: "add its units" }, { value: "remove", label: "remove its units" }, { value: "replace", label: "replace the list" }]} />
      <Select aria-label="which list" value={list} onChange={(e) => setList(e.target.value)} options={[{ value: "in", label: "listed in" }, { value: "out", label: "listed out" }]} />
      {asks && file && <input aria-label="why load the file" className={inputStyle} placeholder="why?" value={reason} onChange={(e) => setReason(e.target.value)} />}
      <Button disabled={!file || send.isPending || (asks && reason.trim() === "")} onClick={() => file && send.mutate(file)}>
        Load it
      </Button>
      {send.isPending && (
        <span role="status">
          <progress value={done} max={1} /> {done < 1 ? `${Math.round(done * 100)} % sent` : "being saved ..."}
        </span>
      )}
      {send.data && <span>{send.data.difference.map((d) => d.text).join("; ") || "nothing changed"}</span>}
      <Problem error={send.error} />
    </div>
  );
}
