import { useRef } from "react";
import { clock } from "../clock";
import type { Schemas } from "../api/client";
import { soon, wave, type Took } from "../draw/wave";
import { Copy } from "../ui/controls";
import { useNow } from "../ui/now";
import { Spread } from "../ui/processes";

/** From so many processes on names do not fit beside the lines. */
const named = 24;

/** Wave draws how a stop reached every process: when each took it, who has not, and who fell silent without it. */
export function Wave({ of, streams = 0, pollers = 0 }: { of: Schemas["Delivery"]; streams?: number; pollers?: number }) {
  useNow();
  const svg = useRef<SVGSVGElement>(null);
  const all = (of.wave ?? []) as Took[];
  const w = wave(all, clock() - of.at);
  const names = w.lines.length <= named;
  const left = names ? 210 : 12;
  const width = 640;
  const across = (to: number) => left + to * (width - left - 60);
  const pages = streams + pollers > 0 ? 20 : 0; // for what browsers have, which is an estimate
  const lost = all.filter((t) => t.after < 0 && t.lost);
  const waiting = all.filter((t) => t.after < 0 && !t.lost);
  return (
    <div className="flex flex-col gap-2" data-testid="wave">
      <p className="text-base" role="status">
        {of.expected === 0 ? "No process follows this environment." : `${of.reached} of ${of.expected} processes have it`}
        {lost.length > 0 && <span className="text-alarm">; {lost.length} fell silent without it and may still decide the old way</span>}
      </p>
      <p>
        <Spread d={of} />
      </p>
      {w.lines.length > 0 && (
        <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="who took it when">
        <svg ref={svg} role="img" aria-label={`${of.reached} of ${of.expected} processes took it within ${soon(w.span)}`} viewBox={`0 0 ${width} ${w.height + pages + 28}`} className="w-full max-w-3xl min-w-[30rem]" fontSize="11" fill="var(--ink)">
          {w.ticks.map((t) => (
            <g key={t.at}>
              <line x1={across(t.at)} x2={across(t.at)} y1={0} y2={w.height + pages + 4} stroke="var(--line)" />
              <text x={across(t.at)} y={w.height + pages + 18} textAnchor={t.at === 0 ? "start" : "middle"} fill="var(--soft)">
                {t.says}
              </text>
            </g>
          ))}
          {w.lines.map((l) => (
            <g key={l.took.id}>
              {names && (
                <text x={l.indent ? 14 : 0} y={l.y + 4} fill={l.state === "has it" ? "var(--ink)" : "var(--alarm)"} fontWeight={l.state === "has it" ? 400 : 600}>
                  {l.name.slice(0, 22)} {l.took.id.slice(0, 6)}
                  {l.took.kind === "outpost" ? " outpost" : ""}
                </text>
              )}
              <line x1={across(0)} x2={across(l.to)} y1={l.y} y2={l.y} stroke={l.state === "has it" ? "var(--soft)" : "var(--alarm)"} strokeDasharray={l.state === "has it" ? undefined : "4 3"} strokeWidth={names ? 1.5 : 1} />
              {l.state === "has it" && (
                <>
                  <line x1={across(l.to)} x2={across(1)} y1={l.y} y2={l.y} stroke="var(--lever)" strokeWidth={names ? 5 : Math.max(1, w.height / w.lines.length - 0.5)} />
                  {names && (
                    <text x={across(1) + 6} y={l.y + 4} fill="var(--soft)">
                      {soon(l.took.after)}
                    </text>
                  )}
                </>
              )}
              {l.state !== "has it" && names && (
                <text x={across(1) + 6} y={l.y + 4} fill="var(--alarm)">
                  {l.state}
                </text>
              )}
            </g>
          ))}
          {pages > 0 && (
            <g>
              {names && (
                <text x={0} y={w.height + 13} fill="var(--soft)">
                  browsers, about {(streams + pollers).toLocaleString()}
                </text>
              )}
              <rect x={across(0)} width={across(1) - across(0)} y={w.height + 6} height={7} fill="none" stroke="var(--soft)" strokeDasharray="3 3" />
            </g>
          )}
        </svg>
        </div>
      )}
      {!names && lost.length + waiting.length > 0 && (
        <ul className="text-alarm">
          {[...lost, ...waiting].slice(0, 50).map((t) => (
            <li key={t.id}>
              {t.lost ? "lost" : "not yet"}: {t.application} {t.version} <span className="font-mono text-xs">{t.id.slice(0, 8)}</span>
            </li>
          ))}
        </ul>
      )}
      {streams + pollers > 0 && (
        <p className="text-soft">
          Besides: about {streams.toLocaleString()} pages that are told to ask again, and {pollers.toLocaleString()} units for which was asked over HTTP of late.
        </p>
      )}
      {w.lines.length > 0 && (
        <div>
          <Copy label="copy the picture" text={() => (svg.current ? new XMLSerializer().serializeToString(svg.current) : "")} />
        </div>
      )}
    </div>
  );
}
