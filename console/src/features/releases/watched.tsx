import type { Schemas } from "../../api/client";
import { level, type Metric } from "../../api/metrics";
import { news, type ReleaseView } from "../../api/releases";
import { bounds } from "../../draw/lanes";
import { Sheet } from "../../ui/controls";
import { Said } from "../../ui/variant";
import { Word } from "../../ui/word";
import { BadUnits } from "./bad-units";
import { VerdictMark } from "./lanes";

type Part = Schemas["PartEvidence"];

const reactions: Record<string, string> = { "roll-back": "rolls back", hold: "holds", tell: "tells" };

const says: Record<string, string> = { harm: "harm", clear: "clear", undecided: "no harm so far" };

/** Watched says what each watch has found: the verdict as a word, the ratio with its bounds, and in a sentence what it
    means. */
export function Watched({ project, environment, release: r }: { project: string; environment: string; release: ReleaseView }) {
  const w = r.watched;
  const watches = r.state.plan.watches ?? [];
  if (watches.length === 0) return null;
  return (
    <Sheet title={<Word of="watch">What it watches</Word>}>
      {!w && <p className="text-soft">Nothing was seen yet: it looks once its first stage has begun.</p>}
      {w?.saysBroken && (
        <p role="alert" className="mb-3 rounded border border-alarm bg-alarm-sheet p-2">
          <b className="font-medium">Not to be trusted.</b> <Said said={w.saysBroken} />
        </p>
      )}
      <ol className="flex flex-col gap-3" data-testid="watches">
        {watches.map((watch, i) => {
          const f = w?.watches[i];
          return (
            <li key={`${watch.metric.key} ${watch.variant ?? ""}`} className="border-l-4 pl-3" style={{ borderColor: f?.verdict === "harm" ? "var(--alarm)" : f?.verdict === "clear" ? "var(--lever)" : "var(--line)" }}>
              <div className="flex flex-wrap items-baseline gap-x-3">
                <VerdictMark of={f?.verdict ?? ""} />
                <b className="font-medium">
                  {watch.metric.title}
                  {watch.variant && ` with ${watch.variant}`}
                </b>
                <span>{!f ? "waits" : w?.broken && f.verdict !== "harm" ? "not to be trusted" : says[f.verdict]}</span>
                <span className="text-soft">
                  {f && bounds(f) ? `new is ${bounds(f)} old; ` : ""}
                  on harm it {reactions[watch.onHarm] ?? watch.onHarm}
                </span>
              </div>
              {f && f.parts && f.parts.length > 0 && <Parts of={f.parts} metric={watch.metric} />}
              {w?.says[i] && (
                <p className="break-words text-soft">
                  <Said said={w.says[i]!} names={r.variants} />
                </p>
              )}
            </li>
          );
        })}
      </ol>
      {w && (
        <p className="mt-3 text-soft">
          Seen: {w.seen.new.toLocaleString()} with {news(r.state.plan).join(" or ")}, {w.seen.old.toLocaleString()} with {r.state.plan.from} to compare. A false alarm comes in at most {100 * w.alpha} of 100 releases, however often one looks.
          {w.run > 1 ? ` This is evidence run ${w.run}: others changed what it rests on, and what was found before does not count any more.` : ""}
          {missed(w.missed)}
        </p>
      )}
      {w && <BadUnits project={project} environment={environment} release={r} />}
    </Sheet>
  );
}

/** Parts breaks what a watch has seen down by attributes: numbers, of which no verdict comes. */
function Parts({ of, metric }: { of: Part[]; metric: Metric }) {
  const side = (s: Part["new"]) => (s.units === 0 ? "nobody" : `${level(metric, s.level)} of ${(metric.kind === "rate" ? s.units : s.events).toLocaleString()}`);
  return (
    <details>
      <summary className="cursor-pointer text-soft">By {[...new Set(of.map((p) => p.attribute))].join(", ")}</summary>
      <table className="mt-1 text-left">
        <thead>
          <tr className="text-soft">
            <th className="pr-4 font-normal">where</th>
            <th className="pr-4 font-normal">new</th>
            <th className="font-normal">old</th>
          </tr>
        </thead>
        <tbody>
          {of.map((p) => (
            <tr key={`${p.attribute} ${p.value}`}>
              <td className="pr-4 break-all">
                {p.attribute} {p.value || "is absent"}
              </td>
              <td className="pr-4">{side(p.new)}</td>
              <td>{side(p.old)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="text-xs text-soft">Numbers, and no verdict: of many parts some differ by chance.</p>
    </details>
  );
}

/** missed says what of the reports was not counted. */
function missed(all: Record<string, number>): string {
  const out = Object.entries(all)
    .filter(([, n]) => n > 0)
    .toSorted(([a], [b]) => a.localeCompare(b))
    .map(([what, n]) => `${n.toLocaleString()} ${what}`);
  return out.length > 0 ? ` Not counted: ${out.join(", ")}.` : "";
}
