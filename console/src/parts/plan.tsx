import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import type { Planned } from "../api/life";
import { useChange, useEnvironments, useNames } from "../api/queries";
import { useReason } from "../draft/reason";
import { Button, inputStyle, Problem, Waiting } from "../ui/controls";
import { Dialog } from "../ui/dialog";
import { About } from "../ui/estimate";
import { Said, Variant } from "../ui/variant";

/** What is asked of the service: to look, to do it, or to propose it. */
export interface Asked {
  reason: string;
  units: Record<string, number>; // that are confirmed, by "environment/flag"
  query: { dryRun: string; propose?: string };
}

interface PlanProps {
  project: string;
  title: string;
  /** Another plan for every value of it. */
  of: unknown;
  send: (asked: Asked) => Promise<Planned>;
  verb: string; // "Take it back"
  done: string;
  ready?: boolean; // what stands above says enough for a look
  children?: ReactNode; // what is chosen before
  onClose: () => void;
}

/** PlanDialog shows what several changes would come to, all together, before they are made or proposed. */
export function PlanDialog({ project, title, of, send, verb, done, ready = true, children, onClose }: PlanProps) {
  const environments = useEnvironments(project);
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [reason, setReason] = useReason(`${project} ${title}`);
  const units = Object.fromEntries(Object.entries(typed).flatMap(([k, v]) => (v.trim() === "" ? [] : [[k, Number(v)]])));
  const tried = useQuery({ queryKey: ["plan", project, title, of], enabled: ready, retry: false, gcTime: 0, placeholderData: (before) => before, queryFn: () => send({ reason: "not said yet", units: {}, query: { dryRun: "true" } }) });
  const change = useChange(project, (propose: boolean) => send({ reason, units, query: { dryRun: "false", ...(propose && { propose: "new" }) } }), (_, propose) => (propose ? "Proposed." : done));
  const items = (ready && tried.data?.items) || [];
  const names = useNames(project, items.flatMap((i) => (i.do.startsWith("flag.") && i.of ? [i.of] : [])));
  const touched = new Set(items.flatMap((i) => [i.environment ?? "", ...i.says.map((s) => s.environment ?? "")]));
  const asks = (environments.data?.items ?? []).filter((e) => e.askFirst && touched.has(e.key)).map((e) => e.key);
  const sweeps = (tried.data?.previews ?? []).filter((p) => asks.includes(p.environment)).flatMap((p) => p.preview.shifts.filter((s) => s.sweep).map((s) => ({ key: `${p.environment}/${s.flag}`, shift: s })));
  const held = items.length === 0 || tried.isFetching || change.isPending || (asks.length > 0 && reason.trim() === "");
  return (
    <Dialog open wide onClose={onClose} title={title}>
      {children}
      {ready && tried.isPending && <Waiting what="what would change" />}
      <Problem error={tried.error} />
      {items.map((i) => (
        <section key={`${i.do} ${i.environment} ${i.of}`} aria-label={`${i.of ?? i.do} ${i.environment ?? ""}`} className="flex flex-col gap-1 rounded border border-line p-3">
          <h3 className="font-medium">
            <span className="font-mono text-[13px]">{i.of || i.do}</span>
            {i.environment && ` in ${i.environment}`}
          </h3>
          <ul className="list-disc pl-5">
            {i.says.flatMap((s) =>
              s.lines.map((l) => (
                <li key={(s.environment ?? "") + l.text}>
                  {s.environment && s.environment !== i.environment && `${s.environment}: `}
                  <Said said={l} names={names(i.of)} />
                </li>
              )),
            )}
          </ul>
          {i.is && (
            <p className="text-soft">
              Then: <Said said={i.is} names={names(i.of)} />
            </p>
          )}
        </section>
      ))}
      {ready && (tried.data?.previews ?? []).length > 0 && (
        <section aria-label="whom it moves" className="flex flex-col gap-1" data-testid="preview">
          {tried.data!.previews!.flatMap((p) =>
            p.preview.shifts.map((s) => (
              <p key={p.environment + s.flag}>
                <span className="font-mono text-[13px]">{s.flag}</span> in {p.environment}: <Said said={s.says} names={names(s.flag)} />.{" "}
                {s.moves.slice(0, 4).map((m) => (
                  <span key={m.from + m.to + m.then} className="mr-3 whitespace-nowrap">
                    <Variant names={names(s.flag)} name={m.from || "fallback"} /> → <Variant names={names(s.flag)} name={m.to || "fallback"} /> <About e={m.moved} />
                  </span>
                ))}
              </p>
            )),
          )}
        </section>
      )}
      {ready && [...(tried.data?.notes ?? []), ...(tried.data?.left ?? [])].length > 0 && (
        <ul aria-label="careful" className="flex flex-col gap-1 rounded border border-line bg-note px-3 py-2">
          {[...tried.data!.notes, ...(tried.data!.left ?? [])].map((n) => (
            <li key={n.text}>
              <Said said={n} />
            </li>
          ))}
        </ul>
      )}
      {ready && tried.data && items.length === 0 && <p>Nothing would change: it is like that already.</p>}
      {sweeps.map((s) => (
        <label key={s.key} className="flex flex-wrap items-center gap-2 text-alarm">
          {s.key} takes all of about {s.shift.units.units} units at once. Type that number:
          <input aria-label={`number of units of ${s.key}`} inputMode="numeric" className={`${inputStyle} w-28`} value={typed[s.key] ?? ""} onChange={(e) => setTyped({ ...typed, [s.key]: e.target.value })} />
        </label>
      ))}
      <Problem error={change.error} />
      <div className="flex flex-wrap items-center gap-2">
        <input aria-label="why" className={`${inputStyle} min-w-0 flex-1 basis-60`} placeholder={asks.length > 0 ? `why? (${asks.join(", ")} ${asks.length === 1 ? "asks" : "ask"} first)` : "why? (may be left out)"} value={reason} onChange={(e) => setReason(e.target.value)} />
        <Button tone="lever" disabled={held} onClick={() => change.mutate(false, { onSuccess: onClose })}>
          {change.isPending ? "at it ..." : verb}
        </Button>
        <Button disabled={items.length === 0 || tried.isFetching || change.isPending} onClick={() => change.mutate(true, { onSuccess: onClose })}>
          Propose it
        </Button>
      </div>
    </Dialog>
  );
}
