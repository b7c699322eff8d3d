import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useBoard, useChange, useEnvironments } from "../../api/queries";
import { useReason } from "../../draft/reason";
import { Button, inputStyle, Problem } from "../../ui/controls";
import { Dialog } from "../../ui/dialog";
import { About } from "../../ui/estimate";
import { Said, Variant } from "../../ui/variant";

interface CopyRulesProps {
  project: string;
  environment: string;
  flag: string;
  names: string[];
  disabled: boolean;
}

/** CopyRules puts the rules of this environment into others: the difference and the shift there come first. */
export function CopyRules(p: CopyRulesProps) {
  const [open, setOpen] = useState(false);
  const { may } = useMay(p.project, "release");
  if (!may) return null;
  return (
    <>
      <Button disabled={p.disabled} title={p.disabled ? "save or drop the edit first: what is saved is copied" : undefined} onClick={() => setOpen(true)}>
        Copy the rules to ...
      </Button>
      {open && <CopyDialog {...p} onClose={() => setOpen(false)} />}
    </>
  );
}

function CopyDialog({ project, environment, flag, names, onClose }: CopyRulesProps & { onClose: () => void }) {
  const environments = useEnvironments(project);
  const others = (environments.data?.items ?? []).filter((e) => e.key !== environment);
  const [to, setTo] = useState<string[]>([]);
  const [anew, setAnew] = useState(false);
  const [units, setUnits] = useState<Record<string, string>>({});
  const [reason, setReason] = useReason(`${project} ${flag}`);
  // The versions that the author sees are those that are changed.
  const versions = useBoard(project, { find: `"${flag}"`, environments: others.map((e) => e.key).join(","), limit: 50 });
  const cells = versions.data?.flags.find((f) => f.key === flag)?.in;
  const body = (why: string): Schemas["CopyBody"] => ({
    from: environment,
    to: to.map((e) => ({ environment: e, version: cells?.[e]?.version ?? 0, ...(units[e] && { units: Number(units[e]) }) })),
    drawAnew: anew,
    reason: why,
  });
  const send = (why: string, dry: boolean) => must(api.POST("/api/v1/projects/{project}/flags/{flag}/copy-rules", { params: { path: { project, flag }, query: { dryRun: String(dry) } }, body: body(why) }));
  const tried = useQuery({ queryKey: ["try copy", project, flag, body("")], enabled: to.length > 0 && cells !== undefined, retry: false, gcTime: 0, placeholderData: (before) => before, queryFn: () => send("not said yet", true) });
  const copy = useChange(project, () => send(reason, false), (done) => `Copied to ${done.items.map((i) => i.environment).join(", ") || "nowhere: it is like that already"}.`);
  const asks = others.some((e) => e.askFirst && to.includes(e.key));
  const shown = to.length > 0 ? (tried.data?.items ?? []) : [];
  return (
    <Dialog open wide onClose={onClose} title={`Copy the rules of ${flag} from ${environment}`}>
      <p className="text-soft">The rules and the end are copied. Levers, values and resting variants stay as they are there.</p>
      <fieldset className="flex flex-wrap gap-x-4 gap-y-2">
        <legend className="mb-1 font-medium">to</legend>
        {others.map((e) => (
          <label key={e.key} className="flex items-center gap-1.5">
            <input type="checkbox" checked={to.includes(e.key)} onChange={(c) => setTo(c.target.checked ? [...to, e.key] : to.filter((k) => k !== e.key))} />
            {e.key}
          </label>
        ))}
        {others.length === 0 && <span className="text-soft">There is no other environment.</span>}
      </fieldset>
      <fieldset className="flex flex-wrap gap-x-4 gap-y-2">
        <legend className="mb-1 font-medium">shares</legend>
        {[false, true].map((a) => (
          <label key={String(a)} className="flex items-center gap-1.5">
            <input type="radio" name="drawn" checked={anew === a} onChange={() => setAnew(a)} />
            {a ? "other units, drawn anew" : `the same units as in ${environment}`}
          </label>
        ))}
      </fieldset>
      {shown.map((i) => {
        const shift = i.preview?.shifts[0];
        return (
          <section key={i.environment} aria-label={`in ${i.environment}`} className="flex flex-col gap-1 rounded border border-line p-3">
            <h3 className="font-medium">{i.environment}</h3>
            <ul className="list-disc pl-5">
              {i.difference.map((line) => (
                <li key={line.text}>
                  <Said said={line} names={names} />
                </li>
              ))}
            </ul>
            {shift && (
              <p>
                <Said said={shift.says} names={names} />.{" "}
                {shift.moves.slice(0, 4).map((m) => (
                  <span key={m.from + m.to + m.then} className="mr-3 whitespace-nowrap">
                    <Variant names={names} name={m.from || "fallback"} /> → <Variant names={names} name={m.to || "fallback"} /> <About e={m.moved} />
                  </span>
                ))}
              </p>
            )}
            <p className="text-soft">
              Then: <Said said={i.sentence} names={names} />
            </p>
            {shift?.sweep && environments.data?.items.find((e) => e.key === i.environment)?.askFirst && (
              <label className="flex flex-wrap items-center gap-2 text-alarm">
                This takes all of about {shift.units.units} units at once. Type that number:
                <input aria-label={`number of units in ${i.environment}`} inputMode="numeric" className={`${inputStyle} w-28`} value={units[i.environment] ?? ""} onChange={(e) => setUnits({ ...units, [i.environment]: e.target.value })} />
              </label>
            )}
          </section>
        );
      })}
      {to.length > 0 && tried.data && shown.length === 0 && <p>Nothing would change: it is like that there already.</p>}
      <Problem error={copy.error ?? tried.error} />
      <div className="flex flex-wrap items-center gap-2">
        <input aria-label="why copy" className={`${inputStyle} min-w-0 flex-1 basis-60`} placeholder={asks ? "why? (one of them asks first)" : "why? (may be left out)"} value={reason} onChange={(e) => setReason(e.target.value)} />
        <Button tone="lever" disabled={shown.length === 0 || tried.isFetching || copy.isPending || (asks && reason.trim() === "")} onClick={() => copy.mutate(undefined, { onSuccess: onClose })}>
          {copy.isPending ? "copying ..." : shown.length === 0 ? "Copy" : `Copy to ${shown.map((i) => i.environment).join(", ")}`}
        </Button>
      </div>
    </Dialog>
  );
}
