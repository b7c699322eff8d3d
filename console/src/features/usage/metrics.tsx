import { useMemo, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { useMay } from "../../api/may";
import { kinds, level, tolerated, useMeasured, useMetrics, useRemoveMetric, useSaveMetric, type Measured, type Metric } from "../../api/metrics";
import { spans } from "../../api/usage";
import { useDraft } from "../../draft/use";
import { adoption } from "../../draw/adoption";
import { Button, Field, Problem, Select, Sheet, TextField, Waiting, wrongIn } from "../../ui/controls";
import { DraftTools } from "../../ui/draft-tools";
import { Parsed } from "../../ui/parsed";
import { Word } from "../../ui/word";
import { Place } from "./place";

/** Metrics lists what is measured, or shows one metric: in all, by version, and by what flags gave. It needs no release. */
export default function Metrics() {
  const { project = "", environment = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const metric = search.get("metric") ?? "";
  const span = search.get("span") ?? "1h";
  return (
    <Place>
      {metric ? (
        <>
          <div className="flex flex-wrap items-center justify-between gap-2">
            <nav aria-label="span of time" className="flex gap-1">
              {spans.slice(0, 6).map((s) => (
                <button key={s} type="button" aria-pressed={s === span} onClick={() => setSearch({ metric, span: s }, { replace: true })} className={`min-h-8 cursor-pointer rounded border px-2.5 ${s === span ? "border-lever font-medium" : "border-line text-soft hover:text-ink"}`}>
                  {s}
                </button>
              ))}
            </nav>
            <Link className="underline" to="?">
              all metrics
            </Link>
          </div>
          <One project={project} environment={environment} metric={metric} span={span} />
        </>
      ) : (
        <All project={project} />
      )}
    </Place>
  );
}

const blank: Metric = { key: "", title: "", kind: "rate", better: "lower", by: "targetingKey", window: "10m", grace: "1m", tolerance: { relative: 0.1 } };

function All({ project }: { project: string }) {
  const metrics = useMetrics(project);
  const { may, takes } = useMay(project, "define");
  const [open, setOpen] = useState<string>();
  const remove = useRemoveMetric(project);
  if (!metrics.data) return metrics.error ? <Problem error={metrics.error} /> : <Waiting what="the metrics" />;
  return (
    <Sheet title={<Word of="metric">Metrics</Word>} aside={!may && <span className="text-xs text-soft">{takes}</span>}>
      {metrics.data.items.length === 0 && <p>Nothing is measured yet. A metric is something that happens to units, such as a door that stays shut: record it in a scope of the client, and releases can watch it.</p>}
      <ul className="flex flex-col gap-3">
        {metrics.data.items.map((m) => (
          <li key={m.key} className="border-b border-line pb-3">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <Link className="font-medium underline" to={`?metric=${m.key}`}>
                {m.title}
              </Link>
              <code className="break-all">{m.key}</code>
              {may && (
                <>
                  <Button tone="bare" className="underline" aria-label={`${open === m.key ? "close" : "edit"} metric ${m.title}`} onClick={() => setOpen(open === m.key ? undefined : m.key)}>
                    {open === m.key ? "close" : "edit"}
                  </Button>
                  <Button tone="bare" className="underline" aria-label={`remove metric ${m.title}`} onClick={() => remove.mutate(m.key)}>
                    remove
                  </Button>
                </>
              )}
            </div>
            <div className="text-soft">
              {m.says} {kinds[m.kind]}, {m.better} is better; counts for {m.window} after the first exposure; tolerated: {tolerated(m)}
              {m.flags?.length ? `; releases of ${m.flags.join(", ")} begin with it` : ""}
            </div>
            {open === m.key && <Editor project={project} metric={m} onDone={() => setOpen(undefined)} />}
          </li>
        ))}
      </ul>
      <Problem error={remove.error} />
      {may && <div className="mt-3">{open === "" ? <Editor project={project} metric={blank} onDone={() => setOpen(undefined)} /> : <Button onClick={() => setOpen("")}>New metric</Button>}</div>}
    </Sheet>
  );
}

const fields = ["key", "title", "says", "kind", "better", "measure", "by", "reduce", "window", "grace", "tolerance.relative", "tolerance.absolute", "limit", "base", "cap", "flags"];

function Editor({ project, metric, onDone }: { project: string; metric: Metric; onDone: () => void }) {
  const base = useMemo(() => metric, [metric]);
  const editing = useDraft<Metric>({ name: `${project} metric ${metric.key}`, to: `/p/${project}/settings`, what: metric.key ? `metric ${metric.title}` : "a new metric", base, version: 1 });
  const now = editing.value ?? base;
  const save = useSaveMetric(project);
  const wrong = wrongIn(save.error);
  const set = (next: Partial<Metric>, field: string) => editing.edit({ ...now, ...next }, field);
  const text = (field: "key" | "title" | "says" | "measure" | "by" | "window" | "grace", label: string, hint?: string) => <TextField label={label} hint={hint} error={wrong(`metric.${field}`)} value={now[field] ?? ""} onChange={(e) => set({ [field]: e.target.value }, field)} />;
  return (
    <form
      className="mt-2 flex flex-col gap-3 rounded border border-edge bg-well p-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate({ ...now, flags: (now.flags ?? []).filter(Boolean) }, { onSuccess: () => { editing.drop(); onDone(); } });
      }}
    >
      <div className="flex flex-wrap gap-4">
        {metric.key === "" && text("key", "Key", "such as door-open-failed")}
        {text("title", "Name")}
        {text("says", "What it is (may be left out)")}
      </div>
      <div className="flex flex-wrap gap-4">
        <Field label="Kind" error={wrong("metric.kind")}>{(id) => <Select id={id} value={now.kind} onChange={(e) => set({ kind: e.target.value as Metric["kind"] }, "kind")} options={Object.entries(kinds).map(([value, label]) => ({ value, label }))} />}</Field>
        <Field label="Better is" error={wrong("metric.better")}>{(id) => <Select id={id} value={now.better} onChange={(e) => set({ better: e.target.value }, "better")} options={["lower", "higher"]} />}</Field>
        {now.kind !== "rate" && text("measure", "Measured in", "such as ms")}
        {now.kind === "mean" && <TextField label="Cap" hint="a larger value counts as this" error={wrong("metric.cap")} value={now.cap ?? ""} onChange={(e) => set({ cap: Number(e.target.value) }, "cap")} />}
        {now.kind === "rate" && (
          <label className="flex items-center gap-2 self-end pb-1.5">
            <input type="checkbox" checked={now.common ?? false} onChange={(e) => set({ common: e.target.checked }, "common")} /> it is 10 % or more
          </label>
        )}
      </div>
      <div className="flex flex-wrap gap-4">
        {text("window", "Counts for", "after a unit's first exposure")}
        {text("grace", "Waits for late events", "at least 10s")}
        {text("by", "One event is about", "an attribute")}
        <Field label="Events of one unit become" error={wrong("metric.reduce")}>{(id) => <Select id={id} value={now.reduce ?? ""} onChange={(e) => set({ reduce: e.target.value as NonNullable<Metric["reduce"]> }, "reduce")} options={[{ value: "", label: now.kind === "rate" ? "any of them" : "their mean" }, ...(now.kind === "rate" ? ["first"] : ["first", "sum", "max"]).map((r) => ({ value: r, label: r }))]} />}</Field>
      </div>
      <div className="flex flex-wrap gap-4">
        <Percent label="Tolerated, in percent worse" value={now.tolerance.relative} error={wrong("metric.tolerance.relative")} onChange={(relative) => set({ tolerance: { ...now.tolerance, relative: relative ?? 0 } }, "relative")} />
        {now.kind === "rate" && !now.common && <Percent label="and in percentage points" value={now.tolerance.absolute} error={wrong("metric.tolerance.absolute")} onChange={(absolute) => set({ tolerance: { ...now.tolerance, absolute: absolute ?? 0 } }, "absolute")} />}
        {now.kind === "rate" && <Percent label="Limit, in percent (may be left out)" hint="where nothing can be compared" value={now.limit} error={wrong("metric.limit")} onChange={(limit) => { const { limit: _, ...rest } = now; editing.edit(limit === undefined ? rest : { ...now, limit }, "limit"); }} />}
        {now.kind === "rate" && <Percent label="Usual level, in percent" hint="a guess" value={now.base} error={wrong("metric.base")} onChange={(guess) => set({ base: guess ?? 0 }, "base")} />}
        <TextField label="Releases of these flags begin with it" hint="keys, with commas between" error={wrong("metric.flags") ?? wrong("metric.flags[0]")} value={(now.flags ?? []).join(", ")} onChange={(e) => set({ flags: e.target.value.split(",").map((k) => k.trim()).filter((k, i, all) => k !== "" || i === all.length - 1) }, "flags")} />
      </div>
      <Problem error={save.error} beside={fields.map((f) => `metric.${f}`)} />
      <DraftTools editing={editing} place={(path) => path.join(" ")}>
        <Button tone="lever" type="submit" disabled={save.isPending || now.title.trim() === "" || now.key.trim() === ""}>
          Save the metric
        </Button>
        <Button tone="bare" onClick={onDone}>
          Close
        </Button>
      </DraftTools>
    </form>
  );
}

const points = (v: number) => (v === 0 ? "" : String(Number((100 * v).toPrecision(6))));

/** Percent is a part of one, typed in percent; empty for none. */
function Percent({ label, hint, value, error, onChange }: { label: string; hint?: string; value: number | undefined; error: string | undefined; onChange: (v: number | undefined) => void }) {
  return (
    <Field label={label} hint={hint} error={error}>
      {() => <Parsed label={label} className="w-24" value={value ?? 0} format={points} parse={(t) => (t.trim() === "" ? 0 : /^\d+([.,]\d+)?$/.test(t.trim()) ? Number(t.trim().replace(",", ".")) / 100 : undefined)} wrong="a number such as 10" onChange={(v) => onChange(v || undefined)} />}
    </Field>
  );
}

function One({ project, environment, metric, span }: { project: string; environment: string; metric: string; span: string }) {
  const { data, error } = useMeasured(project, environment, metric, span);
  if (!data) return error ? <Problem error={error} /> : <Waiting what="what was measured" />;
  const m = data.metric;
  const all = [data.all, ...data.versions, ...data.flags];
  const most = Math.max(...all.flatMap((l) => l.levels.map((v) => v ?? 0)), 1e-12);
  return (
    <>
      <Sheet title={m.title}>
        <p>{m.says}</p>
        {data.all.count === 0 ? (
          <p>Nothing was measured in the last {span}.</p>
        ) : (
          <p className="text-base">
            {m.kind === "rate" ? `It happened in ${level(m, data.all.level)} of ${data.all.count.toLocaleString()} events` : `${level(m, data.all.level)} in the mean of ${data.all.count.toLocaleString()} events`} in the last {span}.
          </p>
        )}
        <p className="text-soft">These are events, and not units: what a release goes by counts each unit once.</p>
      </Sheet>
      <Adopted lines={data.versions} span={span} />
      <Lines title="By version of the application" metric={m} lines={data.versions} most={most} name={(l) => [l.application || "sent in batches", l.version].filter(Boolean).join(" ")} none="No version measured anything in this time." />
      <Lines title="By what flags had given" metric={m} lines={data.flags} most={most} name={(l) => `${l.flag}: ${l.variant}`} none="Nothing was measured in a scope in which a flag was asked for." />
    </>
  );
}

/** Adopted draws which part of what an application measures each of its versions has, over time. */
function Adopted({ lines, span }: { lines: Measured["versions"]; span: string }) {
  const all = adoption(lines.filter((l) => l.application)).filter((a) => a.versions.length > 1);
  if (all.length === 0) return null;
  return (
    <Sheet title="Which version is in use">
      <div className="flex flex-col gap-4">
        {all.map((a) => (
          <figure key={a.application} className="flex flex-col gap-1">
            <figcaption>
              <b className="font-medium">{a.application}</b> <span className="text-soft">in the last {span}, by its events</span>
            </figcaption>
            <svg aria-hidden="true" viewBox="0 0 100 20" preserveAspectRatio="none" className="h-16 w-full bg-well">
              {a.versions.map((v, k) =>
                v.stack.map(
                  ([from, to], i) => to > from && <rect key={`${i}`} x={(100 * i) / v.stack.length} width={100 / v.stack.length + 0.05} y={20 * (1 - to)} height={20 * (to - from)} fill="var(--ink)" fillOpacity={shade(k, a.versions.length)} />,
                ),
              )}
            </svg>
            <ul className="flex flex-wrap gap-x-4">
              {a.versions.map((v, k) => (
                <li key={v.version} className="flex items-center gap-1.5">
                  <span aria-hidden="true" className="inline-block size-3 border border-edge" style={{ background: `color-mix(in srgb, var(--ink) ${100 * shade(k, a.versions.length)}%, transparent)` }} />
                  {v.version || "no version"}{" "}
                  <span className="text-soft tabular-nums">
                    {part(v.first)} → {part(v.last)}
                  </span>
                </li>
              ))}
            </ul>
          </figure>
        ))}
      </div>
    </Sheet>
  );
}

const part = (share: number) => `${Math.round(100 * share)} %`;

/** shade tells versions apart: the newest is the darkest. */
const shade = (k: number, n: number) => 0.12 + (0.7 * k) / Math.max(1, n - 1);

function Lines({ title, metric, lines, most, name, none }: { title: string; metric: Metric; lines: Measured["versions"]; most: number; name: (l: Measured["versions"][number]) => string; none: string }) {
  return (
    <Sheet title={title}>
      {lines.length === 0 && <p className="text-soft">{none}</p>}
      <ul>
        {lines.map((l) => (
          <li key={name(l)} className="grid grid-cols-[minmax(0,2fr)_minmax(0,1fr)_minmax(0,1fr)_minmax(0,3fr)] items-center gap-x-4 border-t border-line py-1.5 max-sm:grid-cols-2">
            <span className="break-all">{name(l)}</span>
            <b className="font-medium">{level(metric, l.level)}</b>
            <span className="text-soft">{l.count.toLocaleString()} events</span>
            <svg aria-hidden="true" viewBox="0 0 100 20" preserveAspectRatio="none" className="h-5 w-full">
              <polyline points={l.levels.flatMap((v, i) => (v === null || v === undefined ? [] : [`${((100 * (i + 0.5)) / l.levels.length).toFixed(2)},${(19 - (18 * v) / most).toFixed(2)}`])).join(" ")} fill="none" stroke="var(--ink)" strokeWidth="1.5" vectorEffect="non-scaling-stroke" />
            </svg>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
