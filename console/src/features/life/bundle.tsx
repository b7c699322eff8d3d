import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useBundle, type BundleView } from "../../api/life";
import { useMay } from "../../api/may";
import { useChange, useNames } from "../../api/queries";
import { PlanDialog } from "../../parts/plan";
import { Button, Page, Problem, Sheet, Waiting } from "../../ui/controls";
import { Said } from "../../ui/variant";

type Doing = { what: "turn"; environment: string; lever: "on" | "off" } | { what: "promote"; from: string };

/** Bundle is how flags that ship together stand, and what is done with all of them. */
export default function Bundle() {
  const { project = "", bundle = "" } = useParams();
  const b = useBundle(project, bundle);
  const [doing, setDoing] = useState<Doing>();
  if (!b.data) return b.error ? <Page title={bundle}><Problem error={b.error} /></Page> : <Waiting what="the bundle" />;
  return (
    <Page title={b.data.title}>
      {b.data.says && <p className="text-soft">{b.data.says}</p>}
      {b.data.in.map((e) => (
        <In key={e.environment} project={project} bundle={b.data} in={e} onDo={setDoing} />
      ))}
      <Edit project={project} bundle={b.data} />
      {doing?.what === "turn" && (
        <PlanDialog project={project} title={`Turn ${b.data.title} ${doing.lever} in ${doing.environment}`} of={doing} verb={`Turn all ${doing.lever}`} done={`${b.data.title} is ${doing.lever} in ${doing.environment}.`} onClose={() => setDoing(undefined)} send={({ reason, units, query }) => must(api.POST("/api/v1/projects/{project}/bundles/{bundle}/turn", { params: { path: { project, bundle }, query }, body: { environment: doing.environment, lever: doing.lever, units, reason } }))} />
      )}
      {doing?.what === "promote" && <Promote project={project} bundle={b.data} from={doing.from} onClose={() => setDoing(undefined)} />}
    </Page>
  );
}

function In({ project, bundle, in: e, onDo }: { project: string; bundle: BundleView; in: Schemas["BundleIn"]; onDo: (d: Doing) => void }) {
  const names = useNames(project, bundle.flags);
  const differs = e.flags.filter((f) => f.differs).length;
  return (
    <Sheet title={e.environment}>
      <div className="flex flex-wrap items-center gap-2">
        <span>
          {e.levers === "mixed" ? "Some are on and some are not." : `All are ${e.levers}.`}
          {differs > 0 && ` ${differs === 1 ? "One differs" : `${differs} differ`} from the others.`}
        </span>
        <span className="ml-auto flex flex-wrap gap-2">
          <Button onClick={() => onDo({ what: "turn", environment: e.environment, lever: e.levers === "on" ? "off" : "on" })}>Turn all {e.levers === "on" ? "off" : "on"}</Button>
          <Button onClick={() => onDo({ what: "promote", from: e.environment })}>Promote to ...</Button>
          <Link className="rounded border border-edge px-3 py-1.5 text-alarm" to={`/p/${project}/${e.environment}/stop?find=${encodeURIComponent(`bundle:${bundle.key}`)}`}>
            Stop all ...
          </Link>
        </span>
      </div>
      <ul className="mt-2 flex flex-col gap-1">
        {e.flags.map((f) => (
          <li key={f.key} className={f.differs ? "rounded bg-note px-2 py-1" : "px-2 py-1"}>
            <Link className="font-mono text-[13px] underline" to={`/p/${project}/${e.environment}/flags/${f.key}`}>
              {f.key}
            </Link>
            {f.differs && <span className="ml-2">differs</span>}
            {f.release && (
              <Link className="ml-2 underline" to={`/p/${project}/${e.environment}/releases/${f.release}`}>
                a release runs
              </Link>
            )}
            <div className="text-soft">
              <Said said={f.sentence} names={names(f.key)} />
            </div>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

const parts = [
  ["rules", "rules and the end"],
  ["values", "values of variants"],
  ["lever", "levers"],
  ["resting", "resting variants and needs"],
  ["segments", "segments that nobody is in there"],
  ["drawAnew", "shares get other units"],
] as const;

const toggle = (all: string[], one: string, is: boolean) => (is ? [...all, one] : all.filter((k) => k !== one));

function Promote({ project, bundle, from, onClose }: { project: string; bundle: BundleView; from: string; onClose: () => void }) {
  const [to, setTo] = useState<string[]>([]);
  const [what, setWhat] = useState<string[]>(["rules"]);
  const body = { from, to, bundle: bundle.key, ...Object.fromEntries(what.map((w) => [w, true])) };
  return (
    <PlanDialog
      project={project}
      title={`Promote ${bundle.title} from ${from}`}
      of={body}
      ready={to.length > 0 && what.some((w) => w !== "segments" && w !== "drawAnew")}
      verb="Promote"
      done="Promoted."
      onClose={onClose}
      send={({ reason, units, query }) => must(api.POST("/api/v1/projects/{project}/promote", { params: { path: { project }, query }, body: { ...body, units, reason } }))}
    >
      <fieldset className="flex flex-wrap gap-x-4 gap-y-2">
        <legend className="mb-1 font-medium">to</legend>
        {bundle.in.filter((e) => e.environment !== from).map((e) => (
          <label key={e.environment} className="flex items-center gap-1.5">
            <input type="checkbox" checked={to.includes(e.environment)} onChange={(c) => setTo(toggle(to, e.environment, c.target.checked))} />
            {e.environment}
          </label>
        ))}
      </fieldset>
      <fieldset className="flex flex-wrap gap-x-4 gap-y-2">
        <legend className="mb-1 font-medium">what</legend>
        {parts.map(([key, says]) => (
          <label key={key} className="flex items-center gap-1.5">
            <input type="checkbox" checked={what.includes(key)} onChange={(c) => setWhat(toggle(what, key, c.target.checked))} />
            {says}
          </label>
        ))}
      </fieldset>
    </PlanDialog>
  );
}

function Edit({ project, bundle }: { project: string; bundle: BundleView }) {
  const { may } = useMay(project, "define");
  const go = useNavigate();
  const remove = useChange(project, () => must(api.POST("/api/v1/projects/{project}/bundles/{bundle}/remove", { params: { path: { project, bundle: bundle.key } }, body: {} })), () => "Taken away. The flags stay.");
  if (!may) return null;
  return (
    <div className="flex flex-wrap items-center gap-3">
      <Link className="underline" to={`/p/${project}/bundles`}>
        All bundles
      </Link>
      <Button disabled={remove.isPending} onClick={() => remove.mutate(undefined, { onSuccess: () => void go(`/p/${project}/bundles`) })}>
        Take the bundle away
      </Button>
      <Problem error={remove.error} />
    </div>
  );
}
