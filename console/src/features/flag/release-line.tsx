import { Link } from "react-router";
import { useMay } from "../../api/may";
import { isOver, useReleasesOf } from "../../api/releases";
import { Said } from "../../ui/variant";

/** ReleaseLine says in one line how the flag goes out here, or how it did last. */
export function ReleaseLine({ project, environment, flag, names }: { project: string; environment: string; flag: string; names: string[] }) {
  const all = useReleasesOf(project, environment, flag);
  const may = useMay(project, "release");
  const last = all.data?.items[0];
  const running = last && !isOver(last.state.is);
  return (
    <p className="flex flex-wrap items-baseline gap-x-2 text-soft" data-testid="release">
      {last && (
        <>
          <Link className="underline" to={`/p/${project}/${environment}/releases/${last.id}`}>
            Release
          </Link>
          <span className={running ? "text-ink" : ""}>
            <Said said={last.sentence} names={names} />
          </span>
          {last.mine && <span className="rounded bg-note px-1 text-ink">waits for you to sign</span>}
        </>
      )}
      {!running && may.may && all.data && (
        <Link className="underline" to={`/p/${project}/releases/new?flag=${flag}&environment=${environment}${last?.state.is === "rolled-back" ? `&after=${last.id}` : ""}`}>
          {last?.state.is === "rolled-back" ? "Start it again, after the repair" : "Start a release"}
        </Link>
      )}
    </p>
  );
}
