import { lazy, Suspense, useMemo } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { spans, useUsage, type UsageLine } from "../../api/usage";
import { Problem, Sheet, Waiting } from "../../ui/controls";
import { Rows } from "../../ui/rows";
import { Variant, variantColor } from "../../ui/variant";
import { Place } from "./place";

const Chart = lazy(() => import("./chart").then((m) => ({ default: m.Chart })));

const sum = (lines: { total: number }[]) => lines.reduce((n, l) => n + l.total, 0);
const percent = (part: number, of: number) => (of === 0 ? "" : `${((100 * part) / of).toFixed(1)} %`);

/** Usage shows what was decided: of all flags, or of one over time. */
export default function Usage() {
  const { project = "", environment = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const span = search.get("span") ?? "1h";
  const flag = search.get("flag") ?? "";
  const usage = useUsage(project, environment, span, flag);
  const set = (next: Record<string, string>) => setSearch({ ...(flag && { flag }), ...(span !== "1h" && { span }), ...next }, { replace: true });
  return (
    <Place>
      <div className="flex flex-wrap items-center justify-between gap-2">
        <nav aria-label="span of time" className="flex gap-1">
          {spans.map((s) => (
            <button key={s} type="button" aria-pressed={s === span} onClick={() => set({ span: s })} className={`min-h-8 cursor-pointer rounded border px-2.5 ${s === span ? "border-lever font-medium" : "border-line text-soft hover:text-ink"}`}>
              {s}
            </button>
          ))}
        </nav>
        {flag && (
          <Link className="underline" to={`?span=${span}`}>
            all flags
          </Link>
        )}
      </div>
      {usage.error && <Problem error={usage.error} />}
      {!usage.data && !usage.error && <Waiting what="what was decided" />}
      {usage.data && (flag ? <OneFlag project={project} environment={environment} flag={flag} span={span} data={usage.data} /> : <AllFlags span={span} now={usage.data.now} past={usage.data.past} variants={usage.data.variants} />)}
    </Place>
  );
}

/** AllFlags is a line a flag: how often it was asked for, and what it gave. */
function AllFlags({ span, now, past, variants }: { span: string; now: UsageLine[]; past: UsageLine[]; variants: Record<string, string[]> }) {
  const rows = Object.keys(variants)
    .map((key) => ({ f: { key }, lines: now.filter((l) => l.flag === key), before: sum(past.filter((l) => l.flag === key)) }))
    .toSorted((a, b) => sum(b.lines) - sum(a.lines));
  return (
    <Sheet title={`Decisions in the last ${span}`}>
      <Rows items={rows} keyOf={(r) => r.f.key} guess={60} label="flags">
        {({ f, lines, before }) => {
          const names = variants[f.key] ?? [];
          const total = sum(lines);
          return (
            <div className="grid grid-cols-[minmax(0,2fr)_minmax(0,1fr)_minmax(0,1fr)_minmax(0,4fr)] gap-x-4 border-t border-line py-2 max-sm:grid-cols-2">
              <Link className="break-all underline" to={`?flag=${f.key}&span=${span}`}>
                {f.key}
              </Link>
              <span className="text-right tabular-nums">{total === 0 ? <span className="text-soft">nobody asked</span> : <>{total.toLocaleString()} <span className="text-xs text-soft">decisions</span></>}</span>
              <span className="text-right text-soft tabular-nums max-sm:hidden">
                {before.toLocaleString()} <span className="text-xs">the {span} before</span>
              </span>
              <div className="flex flex-col gap-1 max-sm:col-span-2">
                <div className="flex h-2 overflow-hidden rounded-sm bg-page" aria-hidden="true">
                  {lines.map((l) => (
                    <span key={l.variant ?? ""} style={{ width: `${(100 * l.total) / total}%`, background: l.variant ? variantColor(names, l.variant) : "var(--color-alarm)" }} />
                  ))}
                </div>
                <div className="flex flex-wrap gap-x-4">
                  {lines.map((l) => (
                    <span key={l.variant ?? ""} className="whitespace-nowrap">
                      {l.variant ? <Variant names={names} name={l.variant} /> : <span className="text-alarm">fallback</span>} <span className="text-soft tabular-nums">{percent(l.total, total)}</span>
                    </span>
                  ))}
                </div>
              </div>
            </div>
          );
        }}
      </Rows>
      {rows.length === 0 && <p className="text-soft">No service asked for a flag in this time.</p>}
    </Sheet>
  );
}

type Data = NonNullable<ReturnType<typeof useUsage>["data"]>;

function OneFlag({ project, environment, flag, span, data }: { project: string; environment: string; flag: string; span: string; data: Data }) {
  const names = useMemo(() => data.variants[flag] ?? [], [data, flag]);
  const series = useMemo(() => {
    const flat = Array.from({ length: data.now[0]?.counts.length ?? data.past[0]?.counts.length ?? 0 }, () => 0);
    const given = [...new Set([...data.now, ...data.past].map((l) => l.variant ?? ""))].toSorted((a, b) => names.indexOf(a) - names.indexOf(b));
    return given.map((v) => ({
      name: v || "fallback",
      now: data.now.find((l) => (l.variant ?? "") === v)?.counts ?? flat,
      past: data.past.find((l) => (l.variant ?? "") === v)?.counts ?? flat,
    }));
  }, [data, names]);
  const total = sum(data.now);
  return (
    <>
      <Sheet
        title={
          <>
            {flag} in the last {span}: <span className="tabular-nums">{total.toLocaleString()}</span> decisions <span className="font-normal text-soft">({sum(data.past).toLocaleString()} in the {span} before, dashed)</span>
          </>
        }
        aside={
          <Link className="underline" to={`/p/${project}/${environment}/flags/${flag}`}>
            the flag
          </Link>
        }
      >
        <div className="mb-2 flex flex-wrap gap-x-5">
          {series.map((s) => {
            const given = s.now.reduce((a, b) => a + b, 0);
            return (
              <span key={s.name}>
                <Variant names={names} name={s.name} /> <span className="text-soft tabular-nums">{given.toLocaleString()} · {percent(given, total)}</span>
              </span>
            );
          })}
        </div>
        {total + sum(data.past) === 0 ? <p className="text-soft">Nobody asked for this flag.</p> : <Suspense fallback={<Waiting what="the chart" />}><Chart from={data.from} step={data.step} series={series} names={names} /></Suspense>}
      </Sheet>
      <div className="grid gap-4 lg:grid-cols-2">
        <Ways title="By rule and reason" names={names} ways={data.ways} of={(w) => `${w.rule ?? ""}|${w.reason ?? ""}`} say={byRule} />
        <Ways title="By version of the flag" names={names} ways={data.ways} of={(w) => `${w.flagVersion ?? 0}`} say={(w) => (w.flagVersion ? `version ${w.flagVersion}` : "not known")} />
        <Ways title="By application" names={names} ways={data.ways} of={(w) => `${w.application ?? ""} ${w.version ?? ""}`} say={byApplication} />
      </div>
    </>
  );
}

type Way = Data["ways"][number];

const byRule = (w: Way) => (
  <>
    {w.name ? <i>{w.name}</i> : "no rule"} <span className="text-soft">{w.reason}</span>
  </>
);

const byApplication = (w: Way) => (
  <>
    {w.application === "all at once" ? "asked over HTTP, for all at once" : w.application || "asked over HTTP"} <span className="text-soft">{w.version}</span>
  </>
);

/** Ways sums what a flag gave by something of how it was decided. */
function Ways({ title, names, ways, of, say }: { title: string; names: string[]; ways: Way[]; of: (w: Way) => string; say: (w: Way) => React.ReactNode }) {
  const groups = new Map<string, { first: Way; total: number; variants: Map<string, number> }>();
  for (const w of ways) {
    const g = groups.get(of(w)) ?? { first: w, total: 0, variants: new Map() };
    g.total += w.count;
    g.variants.set(w.variant ?? "", (g.variants.get(w.variant ?? "") ?? 0) + w.count);
    groups.set(of(w), g);
  }
  const total = [...groups.values()].reduce((n, g) => n + g.total, 0);
  return (
    <Sheet title={title}>
      <ul className="flex flex-col gap-2">
        {[...groups].toSorted((a, b) => b[1].total - a[1].total).map(([key, g]) => (
          <li key={key}>
            <div className="flex justify-between gap-x-4">
              <span>{say(g.first)}</span>
              <span className="whitespace-nowrap tabular-nums">
                {g.total.toLocaleString()} <span className="text-soft">{percent(g.total, total)}</span>
              </span>
            </div>
            <div className="flex flex-wrap gap-x-3">
              {[...g.variants].toSorted(([a], [b]) => names.indexOf(a) - names.indexOf(b)).map(([v, n]) => (
                <span key={v} className="whitespace-nowrap">
                  {v ? <Variant names={names} name={v} /> : <span className="text-alarm">fallback</span>} <span className="text-soft tabular-nums">{percent(n, g.total)}</span>
                </span>
              ))}
            </div>
          </li>
        ))}
        {groups.size === 0 && <li className="text-soft">Nothing was decided.</li>}
      </ul>
    </Sheet>
  );
}
