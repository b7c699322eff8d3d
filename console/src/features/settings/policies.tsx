import { useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useChange } from "../../api/queries";
import { usePolicies, usePolicyLibrary, useRulings, type Policy, type PolicyView } from "../../api/together";
import { Button, Field, inputStyle, Problem, Select, Sheet, TextField, Time } from "../../ui/controls";
import { Word } from "../../ui/word";

const blank: Policy = { key: "", title: "", reason: "", nouns: ["flag"], when: "difference.step > 40.0", outcome: "warn", mend: "", environments: [], tags: [], dry: true, version: 0, at: 0, by: "" };

/** Policies are the project's rules for changes: what each does, how it ruled, and how it would have ruled. */
export function Policies({ project }: { project: string }) {
  const all = usePolicies(project);
  const { may, takes } = useMay(project, "manage");
  const [open, setOpen] = useState<string>();
  const [begin, setBegin] = useState(blank);
  const library = usePolicyLibrary(project, open === "");
  const remove = useChange(project, (policy: string) => must(api.POST("/api/v1/projects/{project}/policies/{policy}/remove", { params: { path: { project, policy } }, body: {} })), (p) => `Taken away: policy ${p.title}.`);
  return (
    <Sheet title={<Word of="policy">Policies</Word>} aside={!may && <span className="text-xs text-soft">{takes}</span>}>
      {all.data?.items.length === 0 && <p className="text-soft">There are none: every change that somebody may make is made.</p>}
      <ul className="flex flex-col gap-3">
        {all.data?.items.map((p) => (
          <li key={p.key} className="border-b border-line pb-3">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <b className="font-medium">{p.title}</b>
              <span>{p.dry ? `dry: would ${p.outcome}` : `${p.outcome}s`}</span>
              <span className="text-soft">
                {p.nouns.join(", ")}
                {p.environments.length > 0 && ` in ${p.environments.join(", ")}`}
                {p.tags.length > 0 && ` with ${p.tags.join(", ")}`}
              </span>
              <Button tone="bare" className="underline" aria-label={`${open === p.key ? "close" : "look at"} policy ${p.title}`} onClick={() => setOpen(open === p.key ? undefined : p.key)}>
                {open === p.key ? "close" : "look at"}
              </Button>
              {may && (
                <Button tone="bare" className="underline" aria-label={`remove policy ${p.title}`} onClick={() => remove.mutate(p.key)}>
                  remove
                </Button>
              )}
            </div>
            <p className="text-soft">{p.reason}</p>
            <Ruled p={p} />
            {open === p.key && <Rulings project={project} policy={p.key} />}
            {open === p.key && <Editor project={project} policy={p} may={may} onDone={() => setOpen(undefined)} />}
          </li>
        ))}
      </ul>
      <Problem error={remove.error ?? all.error} />
      {may && open !== "" && (
        <div className="mt-3">
          <Button
            onClick={() => {
              setBegin(blank);
              setOpen("");
            }}
          >
            New policy
          </Button>
        </div>
      )}
      {open === "" && (
        <div className="mt-3 flex flex-col gap-3">
          <Select
            aria-label="begin with"
            value={begin.key}
            onChange={(e) => setBegin(library.data?.items.find((p) => p.key === e.target.value) ?? blank)}
            options={[{ value: "", label: "begin with nothing" }, ...(library.data?.items ?? []).map((p) => ({ value: p.key, label: p.title }))]}
          />
          <Editor key={begin.key} project={project} policy={{ ...begin, dry: true }} may onDone={() => setOpen(undefined)} />
        </div>
      )}
    </Sheet>
  );
}

/** Ruled draws how often a policy ruled, day by day. */
function Ruled({ p }: { p: PolicyView }) {
  const most = Math.max(1, ...p.days);
  return (
    <p className="flex flex-wrap items-center gap-x-3">
      <svg role="img" aria-label={`rulings of the last ${p.days.length} days`} viewBox={`0 0 ${p.days.length} 12`} preserveAspectRatio="none" className="h-4 w-48 border-b border-edge">
        {p.days.map((n, i) => (n > 0 ? <rect key={i} x={i} y={12 - (12 * n) / most} width="0.9" height={(12 * n) / most} fill="var(--ink)" /> : null))}
      </svg>
      <span>
        ruled {p.ruled} time{p.ruled === 1 ? "" : "s"} in {p.days.length} days
        {p.failed > 0 && <span className="text-alarm">, could not judge {p.failed}</span>}
        {p.last ? (
          <>
            , last <Time ms={p.last} />
          </>
        ) : null}
      </span>
    </p>
  );
}

const did: Record<string, string> = { refuse: "refused", warn: "warned", note: "noted" };

function Rulings({ project, policy }: { project: string; policy: string }) {
  const all = useRulings(project, policy, true);
  return (
    <ul className="my-2 max-h-48 overflow-auto" aria-label="rulings">
      {all.data?.items.map((r) => (
        <li key={`${r.change}${r.environment}${r.subject}`}>
          <Time ms={r.at} /> {r.dry ? `would have ${did[r.outcome]}` : r.forced ? "was overruled" : did[r.outcome]} <span className="font-mono text-[13px]">{r.subject}</span>
          {r.environment && ` in ${r.environment}`}, {r.name}
          {r.failed && <span className="text-alarm"> (could not be judged: {r.failed})</span>}
        </li>
      ))}
    </ul>
  );
}

const words = (text: string): string[] => text.split(",").map((w) => w.trim()).filter((w) => w !== "");

/** own is what is edited of a policy, without how it ruled. */
const own = ({ key, title, reason, nouns, when, outcome, mend, environments, tags, dry, version, at, by }: Policy): Policy => ({ key, title, reason, nouns, when, outcome, mend, environments, tags, dry, version, at, by });

function Editor({ project, policy, may, onDone }: { project: string; policy: Policy; may: boolean; onDone: () => void }) {
  const [p, setP] = useState(() => own(policy));
  const save = useChange(project, (one: Policy) => must(api.PUT("/api/v1/projects/{project}/policies/{policy}", { params: { path: { project, policy: one.key } }, body: { policy: one } })), (o) => `Saved: policy ${o.title}.`);
  const trial = useChange(project, (one: Policy) => must(api.POST("/api/v1/projects/{project}/policies/try", { params: { path: { project } }, body: { policy: one } })));
  const set = (part: Partial<Policy>) => setP({ ...p, ...part });
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(p, { onSuccess: onDone });
      }}
    >
      {policy.version === 0 && <TextField label="key" value={p.key} onChange={(e) => set({ key: e.target.value })} />}
      <TextField label="title" value={p.title} onChange={(e) => set({ title: e.target.value })} />
      <TextField label="why there is the policy" value={p.reason} onChange={(e) => set({ reason: e.target.value })} />
      <Field label="it bites when" hint="an expression (CEL) over before, after, difference, shift, flag, environment, actor, signed, now, elsewhere, release and change">
        {(id) => <textarea id={id} rows={3} className={`${inputStyle} font-mono text-[13px]`} value={p.when} onChange={(e) => set({ when: e.target.value })} />}
      </Field>
      <TextField label="what to do instead" value={p.mend} onChange={(e) => set({ mend: e.target.value })} />
      <TextField label="it judges" hint="flag, definition, segment, release, environment" value={p.nouns.join(", ")} onChange={(e) => set({ nouns: words(e.target.value) })} />
      <TextField label="in environments" hint="all where nothing is said" value={p.environments.join(", ")} onChange={(e) => set({ environments: words(e.target.value) })} />
      <TextField label="for flags with tags" hint="all where nothing is said" value={p.tags.join(", ")} onChange={(e) => set({ tags: words(e.target.value) })} />
      <div className="flex flex-wrap items-center gap-3">
        <Select aria-label="outcome" value={p.outcome} onChange={(e) => set({ outcome: e.target.value as Policy["outcome"] })} options={["refuse", "warn", "note"]} />
        <label>
          <input type="checkbox" checked={p.dry} onChange={(e) => set({ dry: e.target.checked })} /> dry: it is counted, and keeps nothing from happening
        </label>
      </div>
      <Problem error={save.error ?? trial.error} />
      <div className="flex flex-wrap gap-2">
        <Button type="button" disabled={trial.isPending} onClick={() => trial.mutate(p)}>
          {trial.isPending ? "trying ..." : "Try it on the past"}
        </Button>
        {may && (
          <Button tone="lever" type="submit" disabled={save.isPending}>
            Save the policy
          </Button>
        )}
      </div>
      {trial.data && <Tried trial={trial.data} />}
    </form>
  );
}

function Tried({ trial }: { trial: Schemas["PolicyTrial"] }) {
  return (
    <div data-testid="trial">
      <p className="font-medium">
        It would have ruled on {trial.bitten} of {trial.looked} changes of flags since <Time ms={trial.since} />.
      </p>
      {trial.unknown > 0 && (
        <p>
          {trial.unknown} could not be judged: {trial.failed}
        </p>
      )}
      <ul className="max-h-60 overflow-auto">
        {trial.bites.map((b) => (
          <li key={b.change + b.environment + b.flag}>
            <Time ms={b.at} /> <span className="font-mono text-[13px]">{b.flag}</span> in {b.environment}, {trial.names[b.actor]}
            {b.reason && <>: {b.reason}</>}
          </li>
        ))}
      </ul>
    </div>
  );
}
