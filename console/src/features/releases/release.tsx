import { Link, useParams } from "react-router";
import { useMay } from "../../api/may";
import { useEnvironments } from "../../api/queries";
import { isOver, news, useRelease, type ReleaseView } from "../../api/releases";
import { Copy, Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { Said, Variants } from "../../ui/variant";
import { Word } from "../../ui/word";
import { an } from "../../parts/stages";
import { Stopper } from "../../parts/stopper";
import { Acts } from "./acts";
import { Course } from "./course";
import { EditPlan } from "./edit-plan";
import { Given } from "./given";
import { Watched } from "./watched";

/** ReleasePage is one release: what it does now and waits for, its course, and what was done with it. */
export default function ReleasePage() {
  const { project = "", environment = "", release = "" } = useParams();
  const view = useRelease(project, environment, release);
  const environments = useEnvironments(project);
  const r = view.data;
  if (view.isPending) return <Waiting what="the release" />;
  if (!r) return <Page title="Release"><Problem error={view.error} /></Page>;
  const askFirst = environments.data?.items.find((e) => e.key === environment)?.askFirst ?? true;
  return (
    <Page
      name={`the release of ${r.flag} in ${environment}`}
      title={
        <span className="flex flex-wrap items-baseline gap-x-3">
          <Link to={`/p/${project}/${environment}/flags/${r.flag}`} className="font-mono text-lg break-all underline">
            {r.flag}
          </Link>
          <span className="text-base font-normal text-soft">
            {r.title}, in {environment}: {r.state.plan.from} → <Variants names={r.variants} of={news(r.state.plan)} />
          </span>
        </span>
      }
      aside={
        <Link to={`/p/${project}/releases`} className="underline">
          all releases
        </Link>
      }
    >
      <div className="flex flex-col gap-3 rounded border border-line bg-sheet p-4">
        <p className="text-base" data-testid="sentence">
          <Said said={r.sentence} names={r.variants} />
        </p>
        <Acts project={project} environment={environment} release={r} askFirst={askFirst} />
        {!isOver(r.state.is) && (
          <div className="border-t border-line pt-3">
            <Stopper project={project} environment={environment} flags={[{ key: r.flag }]} label={`Stop ${r.flag} in ${environment}`} />
            <p className="mt-1 text-soft">More than a roll back: all get the resting variant, over every rule, and the release is held.</p>
          </div>
        )}
      </div>
      <Problem error={view.error} />
      <Sheet title={<Word of="course">Course</Word>}>
        <Course project={project} environment={environment} release={r} />
      </Sheet>
      <Watched project={project} environment={environment} release={r} />
      <div className="grid gap-4 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <Stages project={project} environment={environment} release={r} askFirst={askFirst} />
        <div className="flex min-w-0 flex-col gap-4">
          <Sheet title="To hand over" aside={<Copy text={r.note.map((n) => n.text.replaceAll("`", "")).join("\n")} />}>
            <div className="flex flex-col gap-1">
              {r.note.map((n, i) => (
                <p key={`${i}`} className="break-words">
                  <Said said={n} names={r.variants} />
                </p>
              ))}
            </div>
          </Sheet>
          <Happened release={r} />
          <Given project={project} environment={environment} release={r} />
        </div>
      </div>
    </Page>
  );
}

/** Stages are what the plan says, stage by stage, and where it stands. */
function Stages({ project, environment, release: r, askFirst }: { project: string; environment: string; release: ReleaseView; askFirst: boolean }) {
  const plan = r.state.plan;
  const may = useMay(project, "release");
  return (
    <Sheet title="Stages" aside={r.after && <Link className="underline" to={`/p/${project}/${environment}/releases/${r.after}`}>the one before</Link>}>
      {r.texts.where && (
        <p className="mb-2">
          all where <code className="break-all">{r.texts.where}</code>
        </p>
      )}
      <ol className="flex flex-col">
        {plan.stages.map((s, i) => {
          const begun = r.steps.find((step) => step.stage === i && (step.tell === "began" || step.tell === "stage"));
          const now = i === r.state.at && !isOver(r.state.is);
          return (
            <li key={s.name} aria-current={now ? "step" : undefined} className={`border-l-4 py-1.5 pl-3 ${now ? "border-lever" : begun ? "border-ink" : "border-line"}`}>
              <div className="flex flex-wrap items-baseline gap-x-3">
                <b className="font-medium">{s.name}</b>
                {r.texts.stages[i] && <code className="break-all text-soft">{r.texts.stages[i]}</code>}
                {begun && (
                  <span className="text-soft">
                    began <Time ms={begun.at} />
                  </span>
                )}
              </div>
              <div className="text-soft">{demands(s)}</div>
            </li>
          );
        })}
      </ol>
      <p className="mt-2 text-soft">
        Drawn by {plan.by.join(", else ")}. Evidence run {r.state.run}
        {r.state.run > 1 ? ", begun anew since others changed what it rests on" : ""}.
      </p>
      {r.expected && <p>Expected: {r.expected}</p>}
      {r.state.chosen && <p>All got {r.state.chosen} in the end.</p>}
      {r.state.outcome && <p>Outcome: {r.state.outcome}</p>}
      {may.may && !isOver(r.state.is) && <EditPlan key={r.id} project={project} environment={environment} release={r} askFirst={askFirst} />}
    </Sheet>
  );
}

/** demands says what a stage waits for. */
export function demands(s: ReleaseView["state"]["plan"]["stages"][number]): string {
  const out = [];
  if (s.least) out.push(`${s.least} at least`);
  if (s.units) out.push(`${s.units} units seen`);
  if (s.until === "clear") out.push("every watch is clear");
  if (s.longest) out.push(`${s.late === "roll-back" ? "rolls back" : s.late === "ask" ? "asks" : "holds"} after ${s.longest}`);
  out.push(s.signOff?.length ? `${an(s.signOff[0]!)} ${s.signOff.join(" or ")} signs${s.declined === "roll-back" ? "; declined, it rolls back" : ""}` : "goes on by itself");
  return out.join(" · ");
}

const tells: Record<string, string> = { planned: "planned it", began: "began", stage: "began a stage", arrived: "arrived everywhere", asks: "asks to sign", held: "held", "went-on": "had it go on", through: "is through", "rolled-back": "rolled back", finished: "finished", withdrawn: "withdrew it", edited: "edited the plan", harm: "found harm", run: "began evidence anew" };

function Happened({ release: r }: { release: ReleaseView }) {
  return (
    <Sheet title="What happened">
      <ol className="flex max-h-[32rem] flex-col gap-1.5 overflow-auto" tabIndex={0} aria-label="what happened">
        {r.steps.toReversed().map((s) => (
          <li key={s.sequence}>
            <Time ms={s.at} /> <span className="text-soft">{s.name}</span> {tells[s.tell] ?? s.tell}
            {s.stage >= 0 && s.tell !== "finished" ? `, ${r.state.plan.stages[s.stage]?.name ?? ""}` : ""}
            {(s.event.because ?? s.event.facts?.blocks?.[0]?.says) && <span className="block pl-4">{s.event.because ?? s.event.facts?.blocks?.[0]?.says}</span>}
          </li>
        ))}
      </ol>
    </Sheet>
  );
}
