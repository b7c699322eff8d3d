import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { Button, inputStyle } from "../ui/controls";
import { About, Part } from "../ui/estimate";
import { Said, Variant } from "../ui/variant";

type Document = Schemas["Document"];
type Preview = Schemas["Preview"];

export interface PreviewProps {
  project: string;
  environment: string;
  doc: Document;
  preview: Preview;
  names: string[];
  onOrder: (order: string[]) => void; // of the rules, by id
}

/** PreviewSheet shows what an edit would move, before it is saved. */
export function PreviewSheet({ project, environment, doc, preview, names, onOrder }: PreviewProps) {
  const [mine, ...others] = preview.shifts;
  const careful = preview.lint.filter((f) => !f.muted && !f.stands);
  const standing = preview.lint.filter((f) => !f.muted && f.stands).length;
  return (
    <div className="flex flex-col gap-2" data-testid="preview">
      {mine && <ShiftOf project={project} environment={environment} shift={mine} names={names} doc={doc} />}
      {Object.entries(preview.drawn).map(([place, drawn]) =>
        drawn.map((d) => <DrawnOf key={place + d.by} place={place} drawn={d} doc={doc} names={names} shift={mine} />),
      )}
      {others.map((s) => (
        <p key={s.flag}>
          Also <Link className="font-mono text-[13px] underline" to={`/p/${project}/${environment}/flags/${s.flag}`}>{s.flag}</Link>: {s.moved.counted > 0 ? <><About e={s.moved} /> units get another variant</> : <Said said={s.says} names={names} />}
        </p>
      ))}
      {preview.tests.map((t) => (
        <p key={t.flag + t.unit}>
          Test unit <span className="font-mono text-[13px]">{t.unit}</span> {t.name && <span className="text-soft">({t.name})</span>} gets {t.to || "the fallback"} instead of {t.from || "the fallback"}
          {t.flag !== doc.key && ` of ${t.flag}`}
        </p>
      ))}
      {preview.evidence.map((f) => (
        <p key={f} className="rounded bg-note px-3 py-2">
          The evidence of the release of <span className="font-mono text-[13px]">{f}</span> begins anew with this.
        </p>
      ))}
      {(careful.length > 0 || preview.types.length > 0) && (
        <ul className="flex flex-col gap-1 rounded border border-line bg-note px-3 py-2" aria-label="careful">
          {preview.types.map((t) => (
            <li key={t.rule + t.says.text}>
              <Said said={t.says} names={names} />
            </li>
          ))}
          {careful.map((f) => (
            <li key={f.check + (f.rule ?? "") + f.says.text}>
              {f.place ? <i>{f.place}</i> : "The flag"} <Said said={f.says} names={names} />. <span className="text-soft">Mend: {f.mend}.</span>
              {f.order && (
                <Button tone="bare" onClick={() => onOrder(f.order!)}>
                  put them in this order
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
      {standing > 0 && <p className="text-xs text-soft">{standing === 1 ? "1 warning stands" : `${standing} warnings stand`} already, not by this edit: see the flag's checks.</p>}
    </div>
  );
}

function ShiftOf({ project, environment, shift, names, doc }: { project: string; environment: string; shift: Schemas["Shift"]; names: string[]; doc: Document }) {
  const rule = (place: string) => (place === "end" ? "the end" : place === "resting" ? "resting" : (doc.rules?.find((r) => r.id === place)?.name ?? "a rule that goes"));
  if (shift.moved.counted === 0) {
    return (
      <p>
        <Said said={shift.says} names={names} />.
      </p>
    );
  }
  return (
    <>
      <p>
        <b className="font-medium">
          {doc.key}: <Said said={shift.says} names={names} />.
        </b>
      </p>
      <ul className="flex flex-col gap-1">
        {shift.moves.slice(0, 8).map((m) => (
          <li key={m.from + m.to + m.by + m.then}>
            <Variant names={names} name={m.from || "fallback"} /> <span className="text-soft">→</span> <Variant names={names} name={m.to || "fallback"} /> {m.value && <span className="text-soft">with its new value</span>} <About e={m.moved} />
            <div className="text-[13px] text-soft">
              by <i>{rule(m.then)}</i>; such as{" "}
              {m.examples.slice(0, 3).map((u, i) => (
                <span key={u}>
                  {i > 0 && ", "}
                  <Link className="underline" to={`/p/${project}/${environment}/population/unit?unit=${encodeURIComponent(u)}`}>
                    {u}
                  </Link>
                </span>
              ))}
            </div>
          </li>
        ))}
        {shift.moves.length > 8 && <li className="text-soft">and {shift.moves.length - 8} smaller moves</li>}
      </ul>
      <p className="flex flex-wrap gap-x-4">
        Then:
        {names.map((n) => {
          const e = shift.after[n];
          return (
            e && (
              <span key={n}>
                <Variant names={names} name={n} /> <Part e={e} />
              </span>
            )
          );
        })}
      </p>
    </>
  );
}

/** DrawnOf says what a share of sites, say, is of recipients. */
function DrawnOf({ place, drawn, doc, names, shift }: { place: string; drawn: Schemas["Drawn"]; doc: Document; names: string[]; shift: Schemas["Shift"] | undefined }) {
  const rule = doc.rules?.find((r) => r.id === place);
  const parts = (rule?.gives ?? doc.end).shares?.parts.filter((p) => !p.goesOn) ?? [];
  const branch = shift?.branches.find((b) => b.place === place);
  return (
    <>
      {parts.map((p) => {
        const values = drawn.parts[p.variant ?? ""];
        const units = branch?.gives[p.variant ?? ""];
        return (
          values && (
            <p key={p.variant} data-testid="drawn">
              <Variant names={names} name={p.variant ?? ""} />
              {rule && <i> {rule.name}</i>}: <About e={values} /> of <About e={drawn.units} /> values of <span className="font-mono text-[13px]">{drawn.by}</span>
              {units && (
                <>
                  {" "}
                  = <Part e={units} /> of all units
                </>
              )}
            </p>
          )
        );
      })}
    </>
  );
}

/** Sweep asks for the number of units before everybody gets something else at once. */
export function Sweep({ shift, value, onChange }: { shift: Schemas["Shift"]; value: string; onChange: (v: string) => void }) {
  const [units] = useState(shift.units.units);
  const blind = shift.perhaps.counted > 0;
  return (
    <label className="flex flex-wrap items-center gap-2 rounded border border-alarm bg-alarm-sheet px-3 py-2">
      {blind
        ? "Nobody can count how many units this takes from the resting variant in one step. Say yourself how many it moves at most:"
        : `This takes all of about ${units} units from the resting variant in one step. Shares would widen it step by step. To go on, type that number:`}
      <input aria-label="number of units" inputMode="numeric" className={`${inputStyle} w-28`} value={value} onChange={(e) => onChange(e.target.value)} />
    </label>
  );
}
