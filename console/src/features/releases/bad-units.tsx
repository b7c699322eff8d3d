import { useState } from "react";
import { Link } from "react-router";
import { useBadUnits, type ReleaseView } from "../../api/releases";
import { lasts } from "../../draw/course";
import { Problem, Time } from "../../ui/controls";
import { Variant } from "../../ui/variant";

/** BadUnits lists units to which something bad happened, each with what it was given and what came of it. */
export function BadUnits({ project, environment, release: r }: { project: string; environment: string; release: ReleaseView }) {
  const [open, setOpen] = useState(false);
  const units = useBadUnits(project, environment, r.id, open);
  const titles = new Map((r.state.plan.watches ?? []).map((w) => [w.metric.key, w.metric]));
  const said = (metric: string, value: number): string => {
    const m = titles.get(metric);
    return m?.kind === "rate" ? m.title : `${m?.title ?? metric} ${Number(value.toPrecision(4))}${m?.measure ? ` ${m.measure}` : ""}`;
  };
  const items = units.data?.items ?? [];
  return (
    <details className="mt-3" open={open} onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="cursor-pointer">To whom it happened</summary>
      <Problem error={units.error} />
      {units.data && items.length === 0 && <p className="text-soft">To nobody so far, or it is kept no longer.</p>}
      {items.length > 0 && (
        <>
          <p className="text-soft">{items.length} units, drawn evenly from those of each side to whom something bad happened.</p>
          <ul className="mt-1 flex max-h-80 flex-col gap-1 overflow-auto" tabIndex={0} aria-label="to whom it happened">
            {items.map((u) => (
              <li key={`${u.side} ${u.unit}`} className="flex flex-wrap items-baseline gap-x-3 border-t border-line py-1">
                <Link className="break-all underline" to={`/p/${project}/${environment}/population/unit?unit=${encodeURIComponent(u.unit)}`}>
                  {u.unit}
                </Link>
                <span>
                  got <Variant names={r.variants} name={u.variant} /> at <Time ms={u.exposed} /> ({u.stage})
                </span>
                <span className="text-soft">
                  {u.events
                    .filter((e) => e.counts)
                    .map((e) => `${said(e.metric, e.value)}${e.at - u.exposed >= 1000 ? ` ${lasts(e.at - u.exposed)} later` : ""}`)
                    .join("; ")}
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
    </details>
  );
}
