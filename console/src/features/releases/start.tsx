import { useEffect, useMemo, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useEnvironments, useFlag } from "../../api/queries";
import { useMetrics } from "../../api/metrics";
import { news, useLadders, useRelease, useStart, useTryStart, type Start } from "../../api/releases";
import { useReason } from "../../draft/reason";
import { useDraft } from "../../draft/use";
import { lasts } from "../../draw/course";
import { useAround } from "../../parts/around";
import { FlagPicker } from "../../parts/flag-picker";
import { ConditionAround, type Node } from "../../ui/condition";
import { Button, Field, inputStyle, Page, Problem, Select, Sheet, TextField, wrongIn, zone } from "../../ui/controls";
import { DraftTools } from "../../ui/draft-tools";
import { About } from "../../ui/estimate";
import { Said, Variant, Variants } from "../../ui/variant";
import { Audience, sent, StagesEditor, type DraftStage } from "../../parts/stages";
import { askedFor, WatchesEditor, watchesOf, type DraftWatch } from "../../parts/watches";

/** What is filled in to start a release. */
interface Form {
  from: string;
  to: string;
  beside: string[]; // further variants that are new
  by: string;
  where: Node | undefined;
  ladder: string;
  named: string;
  stages: DraftStage[];
  begin: string;
  above: string;
  oldArm: boolean;
  watches: DraftWatch[];
  breakDown: string;
  expected: string;
  first: number;
  days: string[]; // on which it goes to a next stage by itself; none: at any time
  hoursFrom: string;
  hoursTo: string;
  zone: string;
  percent: string; // of the processes that must have a stage
  wait: string; // for so long
}

const weekdays = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/** StartRelease plans a release, and shows what each of its stages would do before it starts. */
export default function StartRelease() {
  const { project = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const environments = useEnvironments(project);
  const flag = query.get("flag") ?? "";
  const asked = environments.data?.items.find((e) => e.askFirst) ?? environments.data?.items.at(-1);
  const environment = query.get("environment") ?? asked?.key ?? "";
  const set = (next: Record<string, string>) => setQuery({ ...(flag && { flag }), environment, ...next }, { replace: true });
  return (
    <Page title="Start a release">
      <Sheet>
        <div className="flex flex-wrap items-end gap-4">
          <div className="flex flex-col gap-1">
            <span className="font-medium">Flag</span>
            <FlagPicker project={project} label="the flag that goes out" value={flag} onPick={(key) => set({ flag: key })} />
          </div>
          <Field label="Environment">{(id) => <Select id={id} value={environment} onChange={(e) => set({ environment: e.target.value })} options={environments.data?.items.map((e) => e.key) ?? [environment]} />}</Field>
        </div>
      </Sheet>
      {flag && environment && <Plan key={`${flag} ${environment}`} project={project} environment={environment} flag={flag} after={query.get("after") ?? ""} />}
    </Page>
  );
}

function Plan({ project, environment, flag, after }: { project: string; environment: string; flag: string; after: string }) {
  const view = useFlag(project, environment, flag);
  const ladders = useLadders(project);
  const around = useAround(project, environment, flag);
  const before = useRelease(project, environment, after);
  const metrics = useMetrics(project);
  const names = view.data?.definition.variants.map((v) => v.name) ?? [];
  const doc = view.data?.document;
  const was = after ? before.data?.state.plan : undefined;
  const base = useMemo<Form | undefined>(() => {
    if (!doc || !ladders.data || !metrics.data || (after && !was)) return undefined;
    const from = was?.from ?? doc.end.variant ?? doc.resting;
    const to = was?.to ?? names.find((n) => n !== from) ?? from;
    return { from, to, beside: was?.beside ?? [], by: (was?.by ?? ["targetingKey"]).join(", "), where: was?.where as Node | undefined, ladder: was ? "" : (ladders.data.items[0]?.key ?? ""), named: "", stages: (was?.stages ?? []) as DraftStage[], begin: "", above: "", oldArm: was?.oldArm ?? false, watches: was ? askedFor(was.watches ?? []) : watchesOf(metrics.data.items, flag), breakDown: (was?.breakDown ?? []).join(", "), expected: after ? (before.data?.expected ?? "") : "", first: 0, days: was?.hours?.days ?? [], hoursFrom: was?.hours?.from ?? "08:00", hoursTo: was?.hours?.to ?? "16:00", zone: was?.hours?.zone ?? zone, percent: was?.delivery.percent ? String(was.delivery.percent) : "", wait: was?.delivery.wait ?? "" };
    // oxlint-disable-next-line react-hooks/exhaustive-deps -- names are of the same flag
  }, [doc, ladders.data, metrics.data, was]);
  const editing = useDraft<Form>({ name: `${project} ${environment} release of ${flag}`, to: `/p/${project}/releases/new?flag=${flag}&environment=${environment}${after ? `&after=${after}` : ""}`, what: `a release of ${flag} in ${environment}`, base, version: 1 });
  const f = editing.value;
  const [reason, setReason] = useReason(`${project} release ${flag}`);
  const go = useNavigate();
  const start = useStart(project, environment, flag);
  const [asked, setAsked] = useState<Start>();
  const [seen, setSeen] = useState(false);
  const ladder = ladders.data?.items.find((l) => l.key === f?.ladder);
  const asks = ladder?.stages.some((s) => s.asks) ?? false;
  const body = useMemo<Start | undefined>(() => {
    if (!f || (f.ladder && asks && f.named.trim() === "")) return undefined;
    const beside = f.beside.filter((v) => v !== f.from && v !== f.to);
    return {
      from: f.from,
      to: f.to,
      ...(beside.length > 0 && { beside }),
      by: f.by.split(",").map((b) => b.trim()).filter(Boolean),
      ...(f.where && { where: f.where }),
      ...(f.ladder ? { ladder: f.ladder, ...(asks && { named: f.named.split(/[\s,]+/).filter(Boolean) }) } : { stages: sent(f.stages) }),
      ...(f.begin && { begin: new Date(f.begin).getTime() }),
      ...(f.above && { above: f.above }),
      ...(f.oldArm && { oldArm: true }),
      watches: f.watches,
      ...(f.watches.length > 0 && f.breakDown.trim() && { breakDown: f.breakDown.split(",").map((b) => b.trim()).filter(Boolean) }),
      ...(f.expected.trim() && { expected: f.expected }),
      ...(f.first > 0 && { first: f.first }),
      ...(f.days.length > 0 && { hours: { days: f.days, from: f.hoursFrom, to: f.hoursTo, zone: f.zone } }),
      ...((f.percent.trim() || f.wait.trim()) && { delivery: { ...(f.percent.trim() && { percent: Number(f.percent) }), ...(f.wait.trim() && { wait: f.wait.trim() }) } }),
      ...(after && { after }),
      reason: "not said yet",
    } as Start;
  }, [f, asks, after]);
  const now = JSON.stringify(body);
  useEffect(() => {
    const timer = setTimeout(() => setAsked(now === undefined ? undefined : (JSON.parse(now) as Start)), 300);
    return () => clearTimeout(timer);
  }, [now]);
  const tried = useTryStart(project, environment, flag, asked);
  if (!view.data || !f || !doc) return <Problem error={view.error} />;
  const set = <K extends keyof Form>(field: K, value: Form[K]) => editing.edit({ ...f, [field]: value }, field);
  const askFirst = view.data.environment.askFirst;
  const takes = tried.data?.ahead?.taken.units ?? 0;
  const wrong = wrongIn(start.error ?? tried.error);
  const current = JSON.stringify(asked) === now && !tried.isFetching && !tried.isPlaceholderData;
  const places = ["breakDown", "breakDown[0]", "breakDown[1]", "breakDown[2]", "from", "to", "by", "where", "ladder", "named", "begin", "above", "expected", "flag"];
  return (
    <ConditionAround value={around}>
      <form
        className="grid gap-4 lg:grid-cols-[minmax(0,5fr)_minmax(0,4fr)]"
        onSubmit={(e) => {
          e.preventDefault();
          if (!body || !tried.data) return;
          start.mutate({ ...body, salt: tried.data.state.plan.salt, reason } as Start, {
            onSuccess: (r) => {
              editing.drop();
              void go(`/p/${project}/${environment}/releases/${r.id}`);
            },
          });
        }}
      >
        <div className="flex min-w-0 flex-col gap-4">
          <Sheet title={after ? "What goes out, after the repair" : "What goes out, and to whom"}>
            <div className="flex flex-col gap-3">
              {wrong("flag") && (
                <p role="alert" className="text-alarm">
                  The flag {wrong("flag")}
                </p>
              )}
              <div className="flex flex-wrap gap-4">
                <Field label="From" error={wrong("from")}>{(id) => <Select id={id} value={f.from} onChange={(e) => set("from", e.target.value)} options={names} />}</Field>
                <Field label="To" error={wrong("to")}>{(id) => <Select id={id} value={f.to} onChange={(e) => set("to", e.target.value)} options={names} />}</Field>
                {names.length > 2 && (
                  <fieldset className="flex flex-col gap-1">
                    <legend className="font-medium">Beside it (may be left out)</legend>
                    <span className="flex flex-wrap gap-x-3">
                      {names
                        .filter((v) => v !== f.from && v !== f.to)
                        .map((v) => (
                          <label key={v} className="flex items-center gap-1">
                            <input type="checkbox" checked={f.beside.includes(v)} onChange={(e) => set("beside", names.filter((o) => (o === v ? e.target.checked : f.beside.includes(o))))} /> <Variant names={names} name={v} />
                          </label>
                        ))}
                    </span>
                    <span className="text-xs text-soft">each new variant gets as much of every share, and is compared for itself</span>
                    {[0, 1, 2, 3, 4, 5, 6, 7, 8].map((i) => wrong(`beside[${i}]`)).filter(Boolean).map((said) => (
                      <span key={said} role="alert" className="text-xs text-alarm">{said}</span>
                    ))}
                  </fieldset>
                )}
                <Field label="Shares drawn by" hint="an attribute; more behind commas" error={wrong("by") ?? wrong("by[0]")}>
                  {(id) => <input id={id} list="release-by" className={inputStyle} value={f.by} onChange={(e) => set("by", e.target.value)} />}
                </Field>
                <datalist id="release-by">
                  {["targetingKey", ...around.hints.map((h) => h.name)].map((n) => (
                    <option key={n} value={n} />
                  ))}
                </datalist>
              </div>
              <div className="flex flex-col gap-1">
                <span className="font-medium">Only where (may be left out)</span>
                <span className="flex">
                  <Audience label="only where" value={f.where} onChange={(w) => set("where", w)} />
                </span>
                {wrong("where") && <span role="alert" className="text-xs text-alarm">{wrong("where")}</span>}
                {tried.data?.ahead?.floors?.map((fl) => (
                  <p key={fl.attribute} className="text-xs text-soft">
                    After a repair: {Math.round(fl.share * 100)} % have the newest {fl.attribute} seen, <code>{fl.text}</code>
                  </p>
                ))}
              </div>
            </div>
          </Sheet>
          <Sheet title="Stages">
            <div className="flex flex-col gap-3">
              <div className="flex flex-wrap items-end gap-3">
                <Field label="Ladder" error={wrong("ladder")}>
                  {(id) => <Select id={id} value={f.ladder} onChange={(e) => set("ladder", e.target.value)} options={[...(ladders.data?.items ?? []).map((l) => ({ value: l.key, label: l.title })), { value: "", label: "stages of its own" }]} />}
                </Field>
                {ladder && (
                  <Button onClick={() => editing.edit({ ...f, ladder: "", stages: ladder.stages.map(({ asks: a, ...s }) => (a ? { ...s, who: { test: "string.one-of", attribute: "targetingKey", text: f.named.split(/[\s,]+/).filter(Boolean) } } : s)) as DraftStage[] })}>Edit its stages</Button>
                )}
              </div>
              {ladder && <p className="text-soft">{ladder.says} {ladder.stages.map((s) => s.name).join(", ")}.</p>}
              {ladder && asks && <TextField label="Named units" hint="keys of units for the first stage, such as your own" error={wrong("named")} value={f.named} onChange={(e) => set("named", e.target.value)} />}
              {!ladder && <StagesEditor watched={f.watches.length > 0} value={f.stages} onChange={(stages, field) => editing.edit({ ...f, stages }, field && `stages ${field}`)} wrong={wrong} />}
              {!ladder && wrong("stages") && <p role="alert" className="text-xs text-alarm">{wrong("stages")}</p>}
              <div className="flex flex-wrap items-end gap-4">
                <Field label="Begins" hint="at once, if left out" error={wrong("begin")}>{(id) => <input id={id} type="datetime-local" className={inputStyle} value={f.begin} onChange={(e) => set("begin", e.target.value)} />}</Field>
                <Field label="Its rules stand" error={wrong("above")}>
                  {(id) => <Select id={id} value={f.above} onChange={(e) => set("above", e.target.value)} options={[{ value: "", label: "below all others" }, ...(doc.rules ?? []).filter((r) => !r.release).map((r) => ({ value: r.id, label: `above ${r.name}` }))]} />}
                </Field>
                {after && <Field label="Begins with stage">{(id) => <Select id={id} value={String(f.first)} onChange={(e) => set("first", Number(e.target.value))} options={f.stages.map((s, i) => ({ value: String(i), label: s.name }))} />}</Field>}
              </div>
              <details open={f.days.length > 0 || f.percent !== "" || f.wait !== ""}>
                <summary className="cursor-pointer">Hours, and how far a stage must have arrived</summary>
                <div className="mt-2 flex flex-col gap-3">
                  <fieldset className="flex flex-wrap gap-x-3 gap-y-1">
                    <legend>It goes to a next stage by itself only on (any day if none)</legend>
                    {weekdays.map((d) => (
                      <label key={d} className="flex items-center gap-1">
                        <input type="checkbox" checked={f.days.includes(d)} onChange={(e) => set("days", e.target.checked ? weekdays.filter((o) => o === d || f.days.includes(o)) : f.days.filter((o) => o !== d))} /> {d}
                      </label>
                    ))}
                  </fieldset>
                  {f.days.length > 0 && (
                    <div className="flex flex-wrap items-end gap-3">
                      <TextField label="from" className="w-20" value={f.hoursFrom} onChange={(e) => set("hoursFrom", e.target.value)} />
                      <TextField label="to" className="w-20" value={f.hoursTo} onChange={(e) => set("hoursTo", e.target.value)} />
                      <TextField label="in the time zone" value={f.zone} error={wrong("hours") ?? wrong("hours.zone")} onChange={(e) => set("zone", e.target.value)} />
                    </div>
                  )}
                  <div className="flex flex-wrap items-end gap-3">
                    <TextField label="Processes that must have a stage, in percent" className="w-24" placeholder="100" inputMode="numeric" error={wrong("delivery.percent")} value={f.percent} onChange={(e) => set("percent", e.target.value)} />
                    <TextField label="held where they do not in" className="w-24" placeholder="10m" error={wrong("delivery.wait")} value={f.wait} onChange={(e) => set("wait", e.target.value)} />
                  </div>
                </div>
              </details>
              {f.watches.length === 0 && <label className="flex items-center gap-2">
                <input type="checkbox" checked={f.oldArm} onChange={(e) => set("oldArm", e.target.checked)} />
                <span>
                  keep a part of the others on <Variant names={names} name={f.from} /> to compare with
                </span>
              </label>}
              <fieldset className="flex flex-col gap-2">
                <legend className="mb-1 font-medium">It watches{f.watches.length > 0 && <span className="font-normal text-soft">, and keeps a part of the others on {f.from} to compare with</span>}</legend>
                <WatchesEditor project={project} environment={environment} metrics={metrics.data?.items ?? []} value={f.watches} onChange={(watches, field) => editing.edit({ ...f, watches }, field && `watches ${field}`)} wrong={wrong} />
                {f.watches.length > 0 && <TextField label="Broken down by (may be left out)" hint="up to three attributes, with commas between" error={wrong("breakDown") ?? wrong("breakDown[0]") ?? wrong("breakDown[1]") ?? wrong("breakDown[2]")} value={f.breakDown} onChange={(e) => set("breakDown", e.target.value)} />}
              </fieldset>
              <TextField label="Expected (may be left out)" hint="the effect that you hope for; you are asked at the end what came of it" value={f.expected} onChange={(e) => set("expected", e.target.value)} />
            </div>
          </Sheet>
        </div>
        <div className="flex min-w-0 flex-col gap-4">
          <Sheet title="Before it starts">
            {body && tried.data?.ahead && !tried.error ? <Ahead started={tried.data} ahead={tried.data.ahead} names={names} /> : !tried.error && <p className="text-soft">{body ? "looking ..." : "Name the units of the first stage, and what each stage would do is shown here."}</p>}
            <Problem error={start.error ?? tried.error} beside={[...places, ...f.watches.flatMap((_, i) => ["", ".metric", ".metric.tolerance.relative", ".metric.tolerance.absolute", ".weight"].map((x) => `watches[${i}]${x}`)), ...f.stages.flatMap((_, i) => ["", ".name", ".share", ".who", ".units", ".least", ".longest", ".late", ".until", ".signOff"].map((x) => `stages[${i}]${x}`)), "stages"]} />
          </Sheet>
          <Sheet>
            <div className="flex flex-col gap-3">
              <TextField label={askFirst ? "Why" : "Why (may be left out)"} value={reason} onChange={(e) => setReason(e.target.value)} />
              {takes > 0 && (
                <label className="flex items-center gap-2">
                  <input type="checkbox" checked={seen} onChange={(e) => setSeen(e.target.checked)} /> I have seen that the old arm takes another variant from about {takes.toLocaleString()} units
                </label>
              )}
              <DraftTools editing={editing} place={(path) => path.join(" ")}>
                <Button tone="lever" type="submit" disabled={(takes > 0 && !seen) || !current || !tried.data || tried.error !== null || start.isPending || (askFirst && reason.trim() === "")}>
                  Start the release
                </Button>
              </DraftTools>
            </div>
          </Sheet>
        </div>
      </form>
    </ConditionAround>
  );
}

/** Ahead is what each stage would do, and what to know before. */
function Ahead({ started, ahead, names }: { started: Schemas["StartedRelease"]; ahead: Schemas["Ahead"]; names: string[] }) {
  const all = news(started.state.plan);
  const to = all[0]!;
  const widest = Math.max(1, ...ahead.stages.map((s) => s.has.units));
  return (
    <div className="flex flex-col gap-3">
      <ol className="flex flex-col gap-2" aria-label="what each stage would do">
        {ahead.stages.map((s) => (
          <li key={s.name} className="flex flex-col gap-0.5">
            <div className="flex flex-wrap items-baseline gap-x-2">
              <b className="font-medium">{s.name}</b>
              <span>
                <About e={s.has} /> units have <Variants names={names} of={all} />
              </span>
              {all.map(
                (v) =>
                  s.drawn?.parts[v] && (
                    <span key={v} className="text-soft">
                      <About e={s.drawn.parts[v]} /> of <About e={s.drawn.units} /> {s.drawn.by}
                      {all.length > 1 && ` ${v}`}
                    </span>
                  ),
              )}
            </div>
            <div className="h-1.5 bg-well" aria-hidden="true">
              <div className="h-full" style={{ width: `${(100 * s.has.units) / widest}%`, background: `var(--variant-${Math.max(0, names.indexOf(to)) % 7})` }} />
            </div>
            <div className="text-soft">
              <Said said={s.shift.says} names={names} />
              {s.takes > 0 && `; about ${lasts(s.takes)}`}
            </div>
          </li>
        ))}
      </ol>
      {ahead.takes > 0 && <p>In all about {lasts(ahead.takes)}, beside what people take to sign.</p>}
      {ahead.versions.length > 0 && (
        <details>
          <summary className="cursor-pointer">Who runs what</summary>
          <ul className="mt-1 text-soft">
            {ahead.versions.map((v) => (
              <li key={`${v.application} ${v.version}`}>
                {v.application} {v.version}, {v.instances} {v.instances === 1 ? "process" : "processes"}: {v.asks > 0 ? `asked for it ${v.asks.toLocaleString()} times in the last day` : "did not ask for it"}
              </li>
            ))}
          </ul>
        </details>
      )}
      {ahead.says.length > 0 && (
        <ul className="flex flex-col gap-1 rounded bg-note px-3 py-2" aria-label="to know before it starts">
          {ahead.says.map((s, i) => (
            <li key={`${i}`}>
              <Said said={s} names={names} />
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
