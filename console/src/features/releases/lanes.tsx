import type { ReleaseView } from "../../api/releases";
import { laneName, level, outline, runs, verdicts, widest } from "../../draw/lanes";

/** A verdict is told by its shape and its word, and never by colour alone. */
export function VerdictMark({ of, size = 12, x, y }: { of: string; size?: number; x?: number; y?: number }) {
  const inner =
    of === "harm" ? <path d="M6 0 12 11H0Z" fill="var(--alarm)" /> : of === "clear" ? <path d="M0 6 4.5 11 12 1" fill="none" stroke="var(--lever)" strokeWidth="2.5" /> : <circle cx="6" cy="6" r="4" fill="none" stroke="var(--soft)" strokeWidth="2" />;
  return (
    <svg aria-hidden="true" width={size} height={size} viewBox="0 0 12 12" x={x} y={y} className="inline-block shrink-0">
      {inner}
    </svg>
  );
}

/** How a lane lies: where it begins across the axis and how deep it is. */
export interface Lie {
  at: number;
  deep: number;
}

/** Lanes draws what each watch had found: the bounds as a band that narrows, the tolerance as a line, the moment of a
    verdict as a mark that stays. */
export function Lanes({ release: r, lies, narrow, along, until }: { release: ReleaseView; lies: Lie[]; narrow: boolean; along: (ms: number) => number; until: number }) {
  const w = r.watched;
  if (!w) return null;
  return (
    <g data-testid="lanes">
      {w.lanes.map((lane, i) => {
        const f = w.watches[i]!;
        const lie = lies[i]!;
        const edge = widest(lane.points, f.tolerated);
        const spot = ([ms, v]: [number, number]) => {
          const across = lie.at + v * lie.deep;
          return narrow ? `${across.toFixed(1)},${along(ms).toFixed(1)}` : `${along(ms).toFixed(1)},${across.toFixed(1)}`;
        };
        const level0 = (ratio: number) => lie.at + level(ratio, edge) * lie.deep;
        const rule = (ratio: number) => (narrow ? { x1: level0(ratio), x2: level0(ratio), y1: along(r.made), y2: along(until) } : { x1: along(r.made), x2: along(until), y1: level0(ratio), y2: level0(ratio) });
        return (
          <g key={laneName(lane)}>
            <line {...rule(1)} stroke="var(--edge)" />
            <line {...rule(f.tolerated)} stroke="var(--alarm)" strokeDasharray="5 4" />
            {runs(lane.points).map((run, k, all) => (
              <g key={run[0]!.at}>
                <polygon points={outline(run, edge, all[k + 1]?.[0]?.at ?? until).map(spot).join(" ")} fill="var(--ink)" fillOpacity="0.14" />
                <polyline points={run.filter((p) => p.ratio !== undefined).map((p) => spot([p.at, level(p.ratio!, edge)])).join(" ")} fill="none" stroke="var(--ink)" strokeWidth="1.5" />
              </g>
            ))}
            {verdicts(lane.points).map((v) => (
              <g key={v.at}>
                <VerdictMark of={v.verdict} x={narrow ? lie.at + lie.deep / 2 - 6 : along(v.at) - 6} y={narrow ? along(v.at) - 6 : lie.at + lie.deep / 2 - 6} />
              </g>
            ))}
            {!narrow && (
              <text x={along(r.made) + 2} y={lie.at + 10} fontSize="11" fill="var(--soft)" paintOrder="stroke" stroke="var(--sheet)" strokeWidth="3">
                {laneName(lane)}
              </text>
            )}
          </g>
        );
      })}
    </g>
  );
}
