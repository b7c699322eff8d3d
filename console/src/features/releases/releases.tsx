import { Link, useParams } from "react-router";
import { useMay } from "../../api/may";
import { useNames } from "../../api/queries";
import { isOver, news, useReleases, type ReleaseLine } from "../../api/releases";
import { lasts } from "../../draw/course";
import { Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { Said, Variants } from "../../ui/variant";
import { Word } from "../../ui/word";

/** Releases says what is going out, where, at which stage, what it waits for, and how what went out lately ended. */
export default function Releases() {
  const { project = "" } = useParams();
  const all = useReleases(project);
  const may = useMay(project, "release");
  const items = all.data?.items ?? [];
  const names = useNames(project, items.map((r) => r.flag));
  const running = items.filter((r) => !isOver(r.state.is));
  const over = items.filter((r) => isOver(r.state.is));
  const mine = running.filter((r) => r.mine);
  return (
    <Page
      title="Releases"
      aside={
        may.may && (
          <Link to={`/p/${project}/releases/new`} className="rounded bg-lever px-3 py-1.5 font-medium text-lever-ink">
            Start a release
          </Link>
        )
      }
    >
      <Problem error={all.error} />
      {all.isPending && <Waiting what="the releases" />}
      {mine.length > 0 && (
        <Sheet title={`Waits for you to sign: ${mine.length}`}>
          <Lines project={project} items={mine} names={names} />
        </Sheet>
      )}
      {all.data && (
        <Sheet title="Going out">
          {running.length === 0 ? (
            <p className="text-soft">
              Nothing is going out. A <Word of="release">release</Word> takes a flag from one variant to another in stages, and takes from nobody on the way.
            </p>
          ) : (
            <Lines project={project} items={running.filter((r) => !r.mine)} names={names} />
          )}
        </Sheet>
      )}
      {over.length > 0 && (
        <Sheet title="Went out lately, and how it ended">
          <Lines project={project} items={over} names={names} />
        </Sheet>
      )}
    </Page>
  );
}

/** Bar is how far a release has come, as the share of those whom it is for. */
function Bar({ release: r, names }: { release: ReleaseLine; names: string[] }) {
  const plan = r.state.plan;
  const reached = Math.max(0, ...plan.stages.slice(0, r.state.at + 1).map((s) => s.share ?? 0));
  const back = r.state.is === "rolled-back" || r.state.is === "withdrawn";
  return (
    <div className="flex items-center gap-2">
      <svg aria-hidden="true" viewBox="0 0 100 10" preserveAspectRatio="none" className="h-2.5 w-28 shrink-0">
        <rect width="100" height="10" fill="var(--well)" />
        {!back && <rect width={Math.max(r.state.at >= 0 ? 1.5 : 0, reached / 10_000)} height="10" fill={`var(--variant-${Math.max(0, names.indexOf(plan.to)) % 7})`} />}
        {plan.stages.map((s) => (s.share ? <rect key={s.name} x={Math.min(99.2, s.share / 10_000 - 0.4)} width="0.8" height="10" fill="var(--ink)" fillOpacity="0.5" /> : null))}
      </svg>
      <span className="whitespace-nowrap text-soft">{plan.stages[r.state.at]?.name ?? "not begun"}</span>
    </div>
  );
}

function Lines({ project, items, names }: { project: string; items: ReleaseLine[]; names: (flag: string) => string[] }) {
  return (
    <ul className="flex flex-col">
      {items.map((r) => (
        <li key={r.id} className="grid gap-x-4 gap-y-1 border-b border-line py-2 last:border-b-0 sm:grid-cols-[minmax(12rem,18rem)_13rem_minmax(0,1fr)]">
          <div className="min-w-0">
            <Link to={`/p/${project}/${r.environment}/releases/${r.id}`} className="font-mono text-[13px] font-medium break-all underline">
              {r.flag}
            </Link>
            <div className="text-xs text-soft">
              {r.environment} · {r.state.plan.from} → <Variants names={names(r.flag)} of={news(r.state.plan)} />
            </div>
          </div>
          <Bar release={r} names={names(r.flag)} />
          <div className="min-w-0">
            <Said said={r.sentence} names={names(r.flag)} />
            {r.state.outcome && <span className="text-soft"> Outcome: {r.state.outcome}</span>}
            <div className="text-xs text-soft">
              {r.ownerName}, <Time near ms={r.made} />
              {r.ended ? `, took ${lasts(r.ended - r.made)}` : ""}
            </div>
          </div>
        </li>
      ))}
    </ul>
  );
}
