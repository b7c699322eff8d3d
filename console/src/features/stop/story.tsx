import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useEnvironments, useSayWhy, useStopStory } from "../../api/queries";
import { effect, soon } from "../../draw/wave";
import { Lifter } from "../../parts/lifter";
import { Wave } from "../../parts/wave";
import { Button, clockTime, Copy, Page, Problem, Sheet, TextField, Time, Waiting } from "../../ui/controls";
import { Lever } from "../../ui/lever";

/** StopStoryPage is one stop from its cause to its end: what changed, the stop, who has it, what is given since, the lift. It is what
    one hands over. */
export default function StopStoryPage() {
  const { project = "", environment = "", stop = "" } = useParams();
  const story = useStopStory(project, environment, stop);
  const environments = useEnvironments(project);
  const s = story.data;
  if (story.isPending) return <Waiting what="the stop" />;
  if (!s) return <Page title="Stop"><Problem error={story.error} /></Page>;
  const askFirst = environments.data?.items.find((e) => e.key === environment)?.askFirst ?? true;
  const keys = s.flags.map((f) => f.key).join(", ");
  return (
    <Page
      name={`the stop of ${keys}`}
      title={
        <span className="flex flex-wrap items-baseline gap-x-3">
          Stop of <span className="font-mono text-lg break-all">{keys}</span>
          <span className="text-base font-normal text-soft">in {environment}</span>
        </span>
      }
      aside={
        <Link className="underline" to={`/p/${project}/${environment}/stop`}>
          Stop
        </Link>
      }
    >
      <div className="flex flex-col gap-3 rounded border border-line bg-sheet p-4">
        <p className="flex flex-wrap items-center gap-2 text-base">
          {!s.liftedAt && <Lever position="stopped" />}
          <span>
            {s.liftedAt ? "Lifted" : "It stands"}: stopped by {s.byName || "somebody"} <Time ms={s.at} />
            {s.liftedAt ? (
              <>
                , lifted by {s.liftedByName || "somebody"} <Time ms={s.liftedAt} />
              </>
            ) : (
              ""
            )}
          </span>
        </p>
        {s.flags.map((f) => (
          <p key={f.key}>
            <Link className="font-mono text-[13px] underline" to={`/p/${project}/${environment}/flags/${f.key}`}>
              {f.key}
            </Link>{" "}
            {s.liftedAt ? "gave" : "gives"} {f.resting} to all{f.loses && `; users lose: ${f.loses}`}
          </p>
        ))}
        {s.line.length > 1 && (
          <ol className="flex flex-wrap items-baseline gap-x-2" aria-label="in one line" data-testid="line">
            {s.line.map((t, i) => (
              <li key={`${t.at} ${t.what}`} className={t.what === "stop" ? "font-medium" : ""}>
                {i > 0 && <span className="text-soft">→ +{soon(t.at - s.line[i - 1]!.at)} </span>}
                <span className="break-words">{t.says}</span> <span className="text-soft">({clockTime(t.at)})</span>
              </li>
            ))}
          </ol>
        )}
        <Reason key={s.id} project={project} environment={environment} stop={s} />
        {!s.liftedAt && <Lifter project={project} environment={environment} stops={[s.id]} askFirst={askFirst} label="Lift it" />}
      </div>
      <Problem error={story.error} />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        <Sheet title="Who has it, and since when">{s.wave ? <Wave of={s.wave} streams={s.streams} pollers={s.pollers} /> : <p className="text-soft">The records do not know that any more.</p>}</Sheet>
        <div className="flex min-w-0 flex-col gap-4">
          <Sheet title="What is given since">
            <Effect story={s} read={story.dataUpdatedAt} />
          </Sheet>
          <Sheet title="What happened" aside={<span className="flex gap-3"><Copy label="copy as text" text={text(s)} /><Copy label="as Markdown" text={s.markdown} /></span>}>
            <ol className="flex flex-col gap-1.5" data-testid="told">
              {s.told.map((t) => (
                <li key={`${t.at} ${t.says}`} className={t.what === "stop" ? "font-medium" : ""}>
                  <Time ms={t.at} /> <span className="break-words">{t.says}</span>
                </li>
              ))}
            </ol>
            {s.untold !== undefined && <p className="text-soft">Of {s.untold} more flags that it stopped nothing is told here.</p>}
          </Sheet>
        </div>
      </div>
    </Page>
  );
}

const text = (s: Schemas["StopStory"]): string => s.told.map((t) => `${new Date(t.at).toISOString()}  ${t.says}`).join("\n");

/** Reason is why it was stopped; who stopped without one may say it later. */
function Reason({ project, environment, stop: s }: { project: string; environment: string; stop: Schemas["StopStory"] }) {
  const [why, setWhy] = useState("");
  const say = useSayWhy(project, environment, s.id);
  const { may } = useMay(project, "stop");
  const reason = s.reason || s.later;
  if (reason) return <p>Why: {reason}</p>;
  if (!may) return <p className="text-soft">Nobody said why yet.</p>;
  return (
    <form
      className="flex flex-wrap items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        say.mutate(why);
      }}
    >
      <TextField label="Why it was stopped" hint="nobody said it yet" value={why} onChange={(e) => setWhy(e.target.value)} />
      <Button type="submit" className="mb-5" disabled={say.isPending || why.trim() === ""}>
        Say why
      </Button>
      <Problem error={say.error} />
    </form>
  );
}

/** For so long back it is drawn, and said, what was told lately, in milliseconds. */
const drawn = 60_000;
const back = 15_000;

interface Told {
  at: number;
  resting: number;
  other: number;
}

/** useSamples keeps what was told while one looks: sums grow as reports come in, and each answer is a sample of them. */
function useSamples(now: Told): Told[] {
  const [samples, setSamples] = useState([now]);
  if (samples.at(-1)!.at !== now.at) setSamples([...samples.filter((o) => now.at - o.at < drawn), now]);
  return samples;
}

/** Lately draws and says what processes have told between one look and the next: within seconds it bends to the resting variant. */
function Lately({ samples }: { samples: Told[] }) {
  const last = samples.at(-1)!;
  const first = samples.find((o) => last.at - o.at < back)!;
  if (samples.length < 2 || last.resting + last.other === samples[0]!.resting + samples[0]!.other) return null;
  const steps = samples.slice(1).map((o, i) => ({ from: samples[i]!.at, to: o.at, resting: o.resting - samples[i]!.resting, other: o.other - samples[i]!.other }));
  const most = Math.max(1, ...steps.map((o) => o.resting + o.other));
  const x = (at: number) => 400 - ((last.at - at) / drawn) * 400;
  const high = (n: number) => (40 * Math.max(0, n)) / most;
  const seconds = Math.round((last.at - first.at) / 1_000);
  return (
    <>
      <svg role="img" aria-label="decisions told in the last minute" viewBox="0 0 400 46" className="w-full" data-testid="lately">
        {steps.map((o) => (
          <g key={o.to}>
            <rect x={x(o.from) + 0.5} width={Math.max(0.5, x(o.to) - x(o.from) - 1)} y={44 - high(o.other)} height={high(o.other)} fill="var(--ink)" fillOpacity="0.55" />
            <rect x={x(o.from) + 0.5} width={Math.max(0.5, x(o.to) - x(o.from) - 1)} y={44 - high(o.other) - high(o.resting)} height={high(o.resting)} fill="none" stroke="var(--lever)" />
          </g>
        ))}
        <line x1={0} x2={400} y1={44} y2={44} stroke="var(--line)" />
      </svg>
      {seconds > 0 && (
        <p role="status">
          In the last {seconds} s processes told of {(last.resting - first.resting).toLocaleString()} decisions at rest, and {(last.other - first.other).toLocaleString()} otherwise.
        </p>
      )}
    </>
  );
}

/** Effect draws what processes say they gave, minute by minute around the stop: at rest, and otherwise. */
function Effect({ story: s, read }: { story: Schemas["StopStory"]; read: number }) {
  const at = Math.floor(s.at / 60_000);
  const all = effect(s.given, at - 3, at + 10);
  const most = Math.max(1, ...all.map((m) => m.resting + m.other));
  const after = all.filter((m) => m.minute > at);
  const total = (of: typeof all, key: "resting" | "other") => of.reduce((n, m) => n + m[key], 0);
  const samples = useSamples({ at: read, resting: total(all, "resting"), other: total(all, "other") });
  if (total(all, "resting") + total(all, "other") === 0) return <p className="text-soft">No process has told of a decision around it yet.</p>;
  const width = 100 / all.length;
  const high = (n: number) => (90 * n) / most;
  return (
    <figure className="flex flex-col gap-2">
      <svg role="img" aria-label="decisions by minute around the stop" viewBox="0 0 400 120" className="w-full">
        {all.map((m, i) => {
          const x = 4 * width * i;
          return (
            <g key={m.minute}>
              <rect x={x + 2} width={4 * width - 4} y={95 - high(m.other)} height={high(m.other)} fill="var(--ink)" fillOpacity="0.55" />
              <rect x={x + 2} width={4 * width - 4} y={95 - high(m.other) - high(m.resting)} height={high(m.resting)} fill="none" stroke="var(--lever)" strokeWidth="1.5" />
              <text x={x + 2 * width} y={110} textAnchor="middle" fontSize="9" fill="var(--soft)">
                {i % 3 === 0 ? clockTime(m.minute * 60_000).replace(/:\d\d(?= |$)/, "") : ""}
              </text>
            </g>
          );
        })}
        <line x1={4 * width * (3 + (s.at / 60_000 - at))} x2={4 * width * (3 + (s.at / 60_000 - at))} y1={0} y2={98} stroke="var(--alarm)" strokeWidth="2" />
      </svg>
      <Lately samples={samples} />
      <figcaption className="text-soft">
        full: as its rules say; outlined: at rest; red: the stop. Told so far: {total(all, "resting").toLocaleString()} at rest
        {after.some((m) => m.resting + m.other > 0) && `, and in the minutes after its own ${total(after, "other").toLocaleString()} otherwise`}.
      </figcaption>
    </figure>
  );
}
