import { Link } from "react-router";
import type { Metric } from "../api/metrics";
import type { Schemas } from "../api/client";
import { tolerated } from "../api/metrics";
import { Select } from "../ui/controls";
import { Parsed } from "../ui/parsed";

/* What a release looks at while it goes, as a person chooses it. */

export type DraftWatch = Schemas["WatchingRelease"];

const reactions = [
  { value: "roll-back", label: "on harm: rolls back" },
  { value: "hold", label: "on harm: holds" },
  { value: "tell", label: "on harm: tells" },
];

const points = (v: number) => String(Number((100 * v).toPrecision(6)));
const parse = (t: string): number | undefined => (/^\d+([.,]\d+)?$/.test(t.trim()) ? Number(t.trim().replace(",", ".")) / 100 : undefined);

/** watchesOf are those that a release of a flag begins with: the metrics that belong to it. */
export const watchesOf = (metrics: Metric[], flag: string): DraftWatch[] => metrics.filter((m) => m.flags?.includes(flag)).map((m) => ({ metric: m.key, onHarm: "roll-back" }));

/** askedFor are the watches of a plan as they were asked for: each once, however many variants it compares. */
export const askedFor = (watches: Schemas["WatchEvidence"][]): DraftWatch[] =>
  watches.filter((w, i) => watches.findIndex((o) => o.metric.key === w.metric.key) === i).map((w) => ({ metric: w.metric.key, onHarm: w.onHarm, tolerance: w.metric.tolerance, ...(w.weight && { weight: w.weight }), ...(w.metric.limit !== undefined && { limit: w.metric.limit }) }));

export function WatchesEditor({ project, environment, metrics, value, onChange, wrong }: { project: string; environment: string; metrics: Metric[]; value: DraftWatch[]; onChange: (now: DraftWatch[], field?: string) => void; wrong: (place: string) => string | undefined }) {
  if (metrics.length === 0)
    return (
      <p className="text-soft">
        Nothing is measured in this project yet, so it goes by time and sign-off. <Link className="underline" to={`/p/${project}/${environment}/usage/metrics`}>Metrics</Link>
      </p>
    );
  return (
    <ul className="flex flex-col gap-2">
      {metrics.map((m) => {
        const at = value.findIndex((w) => w.metric === m.key);
        const w = value[at];
        const put = (next: DraftWatch, field: string) => onChange(value.map((o, i) => (i === at ? next : o)), `${m.key} ${field}`);
        const t = { ...m.tolerance, ...w?.tolerance };
        const trouble = at < 0 ? undefined : ["", ".metric", ".tolerance.relative", ".tolerance.absolute", ".weight"].map((f) => wrong(`watches[${at}]${f}`) ?? wrong(`watches[${at}].metric${f}`)).find(Boolean);
        return (
          <li key={m.key} className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={at >= 0} onChange={(e) => onChange(e.target.checked ? [...value, { metric: m.key, onHarm: "roll-back" }] : value.filter((o) => o.metric !== m.key))} />
              <b className="font-medium">{m.title}</b>
            </label>
            {w ? (
              <>
                <Select aria-label={`on harm of ${m.title}`} value={w.onHarm || "roll-back"} onChange={(e) => put({ ...w, onHarm: e.target.value as NonNullable<DraftWatch["onHarm"]> }, "reaction")} options={reactions} />
                <label className="flex items-center gap-1 text-soft">
                  tolerates
                  <Parsed label={`tolerated of ${m.title}, in percent worse`} className="w-16 text-right" value={t.relative} format={points} parse={parse} wrong="a number such as 10" onChange={(relative) => put({ ...w, tolerance: { ...t, relative } }, "relative")} />% worse
                </label>
                {m.kind === "rate" && !m.common && (
                  <label className="flex items-center gap-1 text-soft">
                    and
                    <Parsed label={`tolerated of ${m.title}, in percentage points`} className="w-16 text-right" value={t.absolute ?? 0} format={points} parse={parse} wrong="a number such as 1" onChange={(absolute) => put({ ...w, tolerance: { ...t, absolute } }, "absolute")} />
                    points
                  </label>
                )}
              </>
            ) : (
              <span className="text-soft">{tolerated(m)} tolerated</span>
            )}
            {trouble && <span role="alert" className="w-full text-xs text-alarm">{trouble}</span>}
          </li>
        );
      })}
    </ul>
  );
}
