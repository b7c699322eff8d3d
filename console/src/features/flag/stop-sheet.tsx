import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useLift } from "../../api/queries";
import { Stopper } from "../../parts/stopper";
import { Button, inputStyle, Problem, Sheet, Time } from "../../ui/controls";

/** StopSheet stops the flag here, or lifts the stops that stand. */
export function StopSheet({ project, environment, flag, loses, stops, askFirst }: { project: string; environment: string; flag: string; loses: string | undefined; stops: Schemas["StopView"][]; askFirst: boolean }) {
  const lift = useLift(project, environment);
  const [why, setWhy] = useState("");
  const { may, takes } = useMay(project, "lift");
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
          {s.reason && <div className="text-soft">{s.reason}</div>}
        </div>
      ))}
      {stops.length > 0 && (
        <div className="flex flex-col gap-2">
          <Link className="underline" to={`/p/${project}/${environment}/stop`}>
            See who has it
          </Link>
          {askFirst && <input aria-label="why lift" className={inputStyle} placeholder="why lift it?" value={why} onChange={(e) => setWhy(e.target.value)} />}
          <Button disabled={!may || lift.isPending || (askFirst && why.trim() === "")} onClick={() => lift.mutate({ stops: stops.map((s) => s.id), reason: why })}>
            Lift {stops.length > 1 ? `all ${stops.length} stops` : "the stop"}
          </Button>
          {!may && <span className="text-xs text-soft">{takes}</span>}
        </div>
      )}
      <Problem error={lift.error} />
    </Sheet>
  );
}
