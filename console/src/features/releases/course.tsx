import { useEffect, useMemo, useRef, useState } from "react";
import type { ReleaseView } from "../../api/releases";
import { isOver, news } from "../../api/releases";
import { useUsage } from "../../api/usage";
import { ahead, at, axisOf, initials, lasts, line, millis, pieces, place, spanFor, ticks, type Piece } from "../../draw/course";
import { bounds, laneName, lastBefore } from "../../draw/lanes";
import { clockTime } from "../../ui/controls";
import { useNarrow } from "../../ui/narrow";
import { Mark, variantColor } from "../../ui/variant";
import { Lanes } from "./lanes";
import { clock } from "../../clock";

const day = new Intl.DateTimeFormat(undefined, { month: "short", day: "numeric", hour: "2-digit", minute: "2-digit" });

/** when says a moment: the time of day, and the day where the course is longer than one. */
const when = (ms: number, long: boolean) => (long ? day.format(new Date(ms)) : clockTime(ms));

const percent = (ppm: number) => `${Number((ppm / 10_000).toFixed(4))} %`;

const states: Record<string, string> = { waiting: "waiting for its time", arriving: "on its way to the processes", "under-way": "under way", asking: "waiting for a signature", held: "held", through: "through all its stages", "rolled-back": "rolled back", finished: "finished", withdrawn: "withdrawn" };

/** How high the lanes are, or how wide where the axis runs down. */
const bandHigh = 128;
const countsHigh = 84;
const gap = 18;
const laneHigh = 52;
const laneGap = 10;
const labels = 22;

/** Course draws a release on one time axis: the share that has the new variant, what others changed, and what
    each variant was given. On a phone the axis runs down the page. */
export function Course({ project, environment, release: r }: { project: string; environment: string; release: ReleaseView }) {
  const narrow = useNarrow();
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(900);
  useEffect(() => {
    if (!box.current) return;
    const fit = new ResizeObserver(([e]) => e && setWidth(e.contentRect.width));
    fit.observe(box.current);
    return () => fit.disconnect();
  }, []);
  const over = isOver(r.state.is);
  const now = useLately(!over);
  const until = over ? (r.ended ?? now) : now;
  const axis = useMemo(() => axisOf(r.made, until, over ? until : 0), [r.made, until, over]);
  const usage = useUsage(project, environment, spanFor(now - axis.from), r.flag);
  const [looked, setLooked] = useState<number>();
  const plan = r.state.plan;
  const was = useMemo(() => pieces(r.steps.map((s) => ({ at: s.at, tell: s.tell, is: s.is, stage: s.stage, share: s.share })), until), [r.steps, until]);
  const next = useMemo(() => {
    if (over) return [];
    const stages = plan.stages.map((s) => ({ name: s.name, share: s.share ?? 0, least: millis(s.least) }));
    const passed = r.state.counted + (r.state.from ? Math.max(0, now - r.state.from) : 0);
    const begun = Math.max(r.state.at, 0);
    const left = r.state.at < 0 ? (stages[0]?.least ?? 0) : r.state.is === "through" ? 0 : Math.max(0, (stages[begun]?.least ?? 0) - passed);
    return ahead(stages, begun, left, now, (axis.to - axis.from) / 60);
  }, [over, plan, r.state, now, axis]);
  const all = [...was, ...next];
  const long = axis.to - axis.from > 20 * 3_600_000;
  const length = narrow ? Math.max(420, 60 * plan.stages.length) : width; // of the axis
  const lanes = r.watched?.lanes.length ?? 0;
  const lanesHigh = lanes * (laneHigh + laneGap);
  const depth = narrow ? Math.max(200, width - 92) : bandHigh + gap + lanesHigh + countsHigh; // across it
  const bandDepth = narrow ? depth * (lanes > 0 ? 0.3 : 0.6) : bandHigh;
  const countsAt = narrow ? depth * (lanes > 0 ? 0.78 : 0.68) : bandHigh + gap + lanesHigh;
  const lies = Array.from({ length: lanes }, (_, i) => (narrow ? { at: depth * (0.34 + (0.4 * i) / lanes), deep: (depth * 0.36) / lanes } : { at: bandHigh + gap / 2 + i * (laneHigh + laneGap), deep: laneHigh }));
  const countsDepth = depth - countsAt;
  const along = (ms: number) => Math.max(0, Math.min(1, place(axis, ms))) * length;
  // Across: 0 is the far edge of the band (nobody has it) towards its height.
  const box4 = (from: number, to: number, low: number, high: number) => (narrow ? { x: low, y: from, width: Math.max(0, high - low), height: Math.max(0, to - from) } : { x: from, y: bandDepth - high, width: Math.max(0, to - from), height: Math.max(0, high - low) });
  const across = (at0: number, from = 0, to = depth) => (narrow ? { x1: from, x2: to, y1: at0, y2: at0 } : { x1: at0, x2: at0, y1: from, y2: to });
  const high = (p: Piece) => (p.stage < 0 ? 0 : Math.max((p.share / 1_000_000) * bandDepth, 4));
  const color = variantColor(r.variants, plan.to);
  const stageStarts = all.filter((p, i) => p.stage >= 0 && p.stage !== all[i - 1]?.stage);
  const series = (usage.data?.now ?? []).filter((l) => l.variant);
  const most = Math.max(1, ...series.flatMap((l) => l.counts), ...(usage.data?.past ?? []).flatMap((l) => l.counts));
  const points = (from: number, step: number, counts: number[]) =>
    line(axis, from, step, counts, most)
      .map(([x, y]) => (narrow ? `${(countsAt + (1 - y) * countsDepth).toFixed(1)},${(x * length).toFixed(1)}` : `${(x * length).toFixed(1)},${(countsAt + y * countsDepth).toFixed(1)}`))
      .join(" ");
  const moment = looked ?? until - 1;
  const pick = (e: React.PointerEvent<SVGSVGElement>) => {
    const b = e.currentTarget.getBoundingClientRect();
    const part = narrow ? (e.clientY - b.top) / b.height : (e.clientX - b.left) / b.width;
    setLooked(axis.from + Math.max(0, Math.min(1, part)) * (axis.to - axis.from));
  };
  return (
    <div ref={box} data-testid="course">
      <div className={narrow ? "flex gap-2" : ""}>
        <svg role="img" aria-label={`the course of the release of ${r.flag}`} width={narrow ? depth : length} height={narrow ? length : depth} className="block overflow-visible" onPointerMove={pick} onPointerLeave={() => setLooked(undefined)}>
          <line {...(narrow ? { x1: 0, x2: 0, y1: 0, y2: length } : { x1: 0, x2: length, y1: bandDepth, y2: bandDepth })} stroke="var(--edge)" />
          {was.map((p) => {
            const h = high(p);
            const b = box4(along(p.from), along(p.to), 0, h);
            const broken = p.is === "held" || p.is === "asking";
            return (
              <g key={`${p.from} ${p.is}`}>
                <rect {...b} fill={color} fillOpacity={p.is === "held" ? 0.35 : p.is === "asking" ? 0.55 : 0.8} />
                {h > 0 && (
                  <line
                    {...(narrow ? { x1: h, x2: h, y1: along(p.from), y2: along(p.to) } : { x1: along(p.from), x2: along(p.to), y1: bandDepth - h, y2: bandDepth - h })}
                    stroke="var(--ink)"
                    strokeWidth={broken ? 3 : 1.5}
                    strokeDasharray={broken ? (p.is === "asking" ? "2 4" : "8 6") : undefined}
                  />
                )}
              </g>
            );
          })}
          {next.map((p) => (
            <rect key={`next ${p.stage}`} {...box4(along(p.from), along(p.to), 0, high(p))} fill="none" stroke={color} strokeDasharray="4 3" />
          ))}
          {stageStarts.map((p, i) => {
            const from = along(p.from);
            const room = (stageStarts[i + 1] ? along(stageStarts[i + 1]!.from) : length) - from;
            const name = plan.stages[p.stage]?.name ?? "";
            if (room < (narrow ? 14 : 7 * name.length + 4)) return null;
            const h = high(p);
            return (
              <text key={`name ${p.stage}`} x={narrow ? Math.min(h + 6, bandDepth - 40) : from + 4} y={narrow ? from + 13 : Math.max(12, bandDepth - h - 6)} fontSize="12" fill="var(--ink)">
                {name}
              </text>
            );
          })}
          <Lanes release={r} lies={lies} narrow={narrow} along={along} until={until} />
          {series.map((l) => (
            <g key={l.variant}>
              <polyline points={points(usage.data!.from, usage.data!.step, l.counts)} fill="none" stroke={variantColor(r.variants, l.variant!)} strokeWidth="2" />
              <polyline points={points(usage.data!.from, usage.data!.step, usage.data!.past.find((o) => o.variant === l.variant)?.counts ?? [])} fill="none" stroke={variantColor(r.variants, l.variant!)} strokeWidth="1" strokeDasharray="3 5" />
            </g>
          ))}
          {r.beside.map((o) => (
            <line key={`${o.at} ${o.subject} ${o.action}`} {...across(along(o.at), narrow ? bandDepth : bandHigh)} stroke="var(--soft)" strokeWidth="1" strokeDasharray="1 3" />
          ))}
          {r.others.map((o) => {
            const x = along(o.at);
            const stop = o.action === "flag.stopped";
            return (
              <g key={`${o.at} ${o.action}`}>
                <line {...across(x)} stroke={stop ? "var(--alarm)" : "var(--soft)"} strokeWidth={stop ? 4 : 1} />
                <text x={narrow ? depth - 24 : x + 2} y={narrow ? x - 3 : depth - 2} fontSize="10" fill="var(--soft)">
                  {initials(o.name)}
                </text>
              </g>
            );
          })}
          {r.steps.filter((s) => s.tell === "rolled-back").map((s) => (
            <line key={s.sequence} {...across(along(s.at))} stroke="var(--ink)" strokeWidth="4" />
          ))}
          {!over && <line {...across(along(now))} stroke="var(--ink)" strokeWidth="1.5" />}
          {looked !== undefined && <line {...across(along(looked))} stroke="var(--lever)" />}
          {most > 1 && (
            <text x={narrow ? depth - 4 : 2} y={narrow ? 12 : countsAt + 10} fontSize="10" textAnchor={narrow ? "end" : "start"} fill="var(--soft)">
              {most.toLocaleString()}
            </text>
          )}
          {!over && !narrow && (
            <text x={along(now) + 4} y={countsAt - 5} fontSize="11" fill="var(--soft)">
              now
            </text>
          )}
        </svg>
        <Ticks narrow={narrow} length={length} all={ticks(axis, narrow ? 8 : Math.max(2, Math.floor(length / 110)), -new Date(axis.from).getTimezoneOffset() * 60_000).map((t) => ({ at: along(t), says: when(t, long) }))} />
      </div>
      <div className="mt-1 flex flex-wrap items-baseline gap-x-4 text-xs text-soft">
        <span>
          <Mark names={r.variants} name={plan.to} size={12} /> has {news(plan).join(" or ")}
        </span>
        <span>outlined: planned</span>
        <span>below: decisions by variant{usage.data ? ` in ${lasts(usage.data.step)}` : ""}, the window before in dashes</span>
        {r.others.length > 0 && <span>hairlines: changes by others</span>}
        {r.beside.length > 0 && <span>dotted: changes of other flags here</span>}
        {lanes > 0 && narrow && <span>lanes from the left: {r.watched?.lanes.map((l) => l.metric).join(", ")}</span>}
        {lanes > 0 && <span>lanes: new against old, the band where it lies; dashed red: the most that is tolerated</span>}
      </div>
      <label className="mt-2 flex flex-wrap items-center gap-3">
        <span className="text-soft">at</span>
        <input type="range" aria-label="a moment of the release" className="min-w-40 flex-1" min={axis.from} max={axis.to} step={(axis.to - axis.from) / 400} value={moment} onChange={(e) => setLooked(Number(e.target.value))} />
      </label>
      <p className="min-h-12" aria-live="polite" data-testid="moment">
        <b className="font-medium">{when(moment, long)}</b>: {tell(r, all, moment, usage.data)}
      </p>
    </div>
  );
}

/** tell says all lanes at a moment, in words. */
function tell(r: ReleaseView, all: Piece[], ms: number, usage: ReturnType<typeof useUsage>["data"]): string {
  const p = at(all, ms);
  const out: string[] = [];
  if (!p || p.stage < 0) out.push(p?.is === "waiting" ? "it waits to begin" : "nobody has it by this release");
  else {
    const name = r.state.plan.stages[p.stage]?.name ?? "";
    const has = `${p.share > 0 ? `${percent(p.share)} have` : "its audience has"} ${news(r.state.plan).join(" or ")}`;
    out.push(p.planned ? `planned: stage ${name}, for ${lasts(p.to - p.from)} at least; then ${has}` : p.is === "rolled-back" || p.is === "withdrawn" ? states[p.is]! : `stage ${name}, ${states[p.is] ?? p.is}; ${has}`);
  }
  if (usage && !p?.planned) {
    const i = Math.floor((ms - usage.from) / usage.step);
    const given = usage.now.filter((l) => l.variant && (l.counts[i] ?? 0) > 0).map((l) => `${l.variant} ${l.counts[i]!.toLocaleString()}`);
    if (given.length > 0) out.push(`decisions then: ${given.join(", ")}`);
  }
  for (const lane of ms <= clock() ? (r.watched?.lanes ?? []) : []) {
    const f = lastBefore(lane.points, ms);
    if (f) out.push(`${laneName(lane)}: ${bounds(f) ? `new is ${bounds(f)} old` : "too few to compare"}, ${f.verdict}`);
  }
  const near = [...r.others, ...r.beside]
    .filter((o) => Math.abs(o.at - ms) < (usage?.step ?? 60_000))
    .toSorted((a, b) => Math.abs(a.at - ms) - Math.abs(b.at - ms))
    .slice(0, 3);
  for (const o of near) out.push(`${o.name}: ${o.action.replace(/^(flag|release|segment)\./, "")}${o.subject === r.flag ? "" : ` ${o.subject}`}${o.reason ? `, ${o.reason}` : ""}`);
  return `${out.join(". ")}.`;
}

function Ticks({ narrow, length, all }: { narrow: boolean; length: number; all: { at: number; says: string }[] }) {
  return (
    <svg aria-hidden="true" width={narrow ? 84 : length} height={narrow ? length : labels} className="block overflow-visible">
      {all.map((t) => (
        <text key={t.at} x={narrow ? 0 : Math.min(t.at, length - 4)} y={narrow ? t.at + 4 : 14} fontSize="11" textAnchor={narrow ? "start" : t.at > length - 60 ? "end" : "start"} fill="var(--soft)">
          {t.says}
        </text>
      ))}
    </svg>
  );
}

/** useLately is the present, to a second, while something goes on. */
function useLately(going: boolean): number {
  const [now, setNow] = useState(() => clock());
  useEffect(() => {
    if (!going) return;
    const timer = setInterval(() => setNow(clock()), 1_000);
    return () => clearInterval(timer);
  }, [going]);
  return now;
}
