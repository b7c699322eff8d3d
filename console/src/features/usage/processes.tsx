import { useParams } from "react-router";
import { useOld } from "../../api/connection";
import { useInstances } from "../../api/queries";
import { useAccountFor, useAccountForAll } from "../../api/usage";
import { AsOf } from "../../ui/as-of";
import { Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { AllGone, Processes, Spread } from "../../ui/processes";
import { Place } from "./place";

/** Who decides, by which revision, and how the last revisions spread. */
export default function ProcessesPage() {
  const { project = "", environment = "" } = useParams();
  const d = useInstances(project, environment);
  const old = useOld(d);
  const gone = useAccountFor(project, environment);
  const all = useAccountForAll(project, environment);
  return (
    <Place>
      {d.error && <Problem error={d.error} />}
      {!d.data && !d.error && <Waiting what="who decides" />}
      {d.data && (
        <>
          <Sheet title={`Revision ${d.data.revision}: delivered to ${d.data.delivered} of ${d.data.alive}`} aside={d.data.newest && <Spread d={d.data.newest} />}>
            <AsOf at={old} />
            <Processes {...d.data} onGone={(instance, reason) => gone.mutate({ instance, reason })} />
            {d.data.lost.length > 1 && <AllGone count={d.data.lost.length} onGone={(reason) => all.mutate(reason)} />}
            <Problem error={gone.error ?? all.error} />
          </Sheet>
          <div className="grid gap-4 lg:grid-cols-2">
            <Sheet title="Browsers, and others that ask over HTTP">
              <p>
                <span className="tabular-nums">{d.data.streams.toLocaleString()}</span> pages listen for changes; answers were asked for about <span className="tabular-nums">{d.data.pollers.toLocaleString()}</span> units in the last minutes.
              </p>
              <p className="text-soft">Estimates: a page that listens is told to ask again, one that does not learns of a change when it asks the next time. Neither is among the processes above.</p>
              <h3 className="mt-3 font-medium">Processes of the service</h3>
              <ul>
                {d.data.nodes.map((n) => (
                  <li key={n.id}>
                    {n.id} <span className="text-soft">revision {n.revision}, up since</span> <Time ms={n.started} />
                    {n.silent > 0 && <span className="text-alarm"> silent for {Math.round(n.silent / 1000)} s</span>}
                  </li>
                ))}
              </ul>
            </Sheet>
            <Sheet title="Earlier revisions">
              <ul className="flex flex-col gap-1">
                {d.data.recent.map((r) => (
                  <li key={`${r.epoch}.${r.revision}`} className="flex flex-wrap justify-between gap-x-3">
                    <span>
                      revision {r.revision}: {r.reached} of {r.expected}
                      {r.lost.length > 0 && <span className="text-alarm"> {r.lost.length} lost</span>}
                    </span>
                    <Spread d={r} />
                  </li>
                ))}
                {d.data.recent.length === 0 && <li className="text-soft">None yet.</li>}
              </ul>
            </Sheet>
          </div>
        </>
      )}
    </Place>
  );
}
