import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Lifter } from "../../parts/lifter";
import { Stopper } from "../../parts/stopper";
import { Sheet, Time } from "../../ui/controls";

/** StopSheet stops the flag here, or lifts the stops that stand. */
export function StopSheet({ project, environment, flag, loses, stops, askFirst }: { project: string; environment: string; flag: string; loses: string | undefined; stops: Schemas["StopView"][]; askFirst: boolean }) {
  return (
    <Sheet title={stops.length > 0 ? "Stopped" : "Stop"}>
      {stops.length === 0 && (
        <div className="flex flex-col gap-2">
          <p className="text-soft">All get the resting variant at once, over everything else.{loses && ` Users lose: ${loses}`}</p>
          <Stopper project={project} environment={environment} flags={[{ key: flag, loses }]} label={`Stop ${flag} in ${environment}`} />
        </div>
      )}
      {stops.map((s) => (
        <div key={s.id} className="mb-2">
          <div>
            by {s.byName}, <Time ms={s.at} />
          </div>
          {(s.reason || s.later) && <div className="text-soft">{s.reason || s.later}</div>}
        </div>
      ))}
      {stops.length > 0 && (
        <div className="flex flex-col gap-2">
          <Link className="underline" to={`/p/${project}/${environment}/stops/${stops[0]!.id}`}>
            See who has it
          </Link>
          <Lifter project={project} environment={environment} stops={stops.map((s) => s.id)} askFirst={askFirst} label={`Lift ${stops.length > 1 ? `all ${stops.length} stops` : "the stop"}`} />
        </div>
      )}
    </Sheet>
  );
}
