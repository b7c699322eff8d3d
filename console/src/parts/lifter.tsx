import { useState } from "react";
import { useMay } from "../api/may";
import { useLift, useStopStory, useTryLift } from "../api/queries";
import { Button, inputStyle, Problem, Time } from "../ui/controls";
import { About } from "../ui/estimate";
import { Said } from "../ui/variant";

/** Lifter takes stops back in two steps: what has changed since and whom it moves stands before the second. */
export function Lifter({ project, environment, stops, askFirst, label = "Lift" }: { project: string; environment: string; stops: string[]; askFirst: boolean; label?: string }) {
  const [armed, setArmed] = useState(false);
  const [why, setWhy] = useState("");
  const lift = useLift(project, environment);
  const { may, takes } = useMay(project, "lift");
  if (!armed) {
    return (
      <div className="flex flex-col items-start gap-1">
        <Button className="min-h-11" disabled={!may} onClick={() => setArmed(true)}>
          {label}
        </Button>
        {!may && <span className="text-xs text-soft">{takes}</span>}
      </div>
    );
  }
  return (
    <div role="group" aria-label="lift" className="flex w-full flex-col gap-3 rounded border border-edge bg-well p-3" onKeyDown={(e) => e.key === "Escape" && setArmed(false)}>
      {stops.map((s) => (
        <Since key={s} project={project} environment={environment} stop={s} />
      ))}
      <Shift project={project} environment={environment} stops={stops} />
      <div className="flex flex-wrap items-center gap-2">
        {askFirst && <input aria-label="why lift" className={`${inputStyle} min-h-11 min-w-0 grow basis-40`} placeholder="why lift it?" value={why} onChange={(e) => setWhy(e.target.value)} />}
        <Button tone="lever" className="min-h-11" disabled={lift.isPending || (askFirst && why.trim() === "")} onClick={() => lift.mutate({ stops, reason: why })}>
          Lift now
        </Button>
        <Button className="min-h-11" onClick={() => setArmed(false)}>
          Leave it stopped
        </Button>
      </div>
      <Problem error={lift.error} />
    </div>
  );
}

/** Since is what of the flags has changed since they were stopped, which counts once they are lifted. */
function Since({ project, environment, stop }: { project: string; environment: string; stop: string }) {
  const story = useStopStory(project, environment, stop);
  if (!story.data) return <Problem error={story.error} />;
  const { since: changes, flags, untold = 0 } = story.data;
  const named = flags.slice(0, flags.length - untold);
  const rest = untold > 0 && `What changed of ${untold} more flags is not told here.`;
  if (changes.length === 0) {
    return (
      <p>
        Nothing of {named.map((f) => f.key).join(", ")} has changed since. {rest}
      </p>
    );
  }
  return (
    <div>
      <p>Changed since, and in force with the lift:</p>
      <ul className="list-disc pl-5">
        {changes.map((c) => (
          <li key={c.change}>
            <Said said={c.says} />, <Time near ms={c.at} />
          </li>
        ))}
      </ul>
      {rest && <p>{rest}</p>}
    </div>
  );
}

/** Shift says whom the lift moves; it is not waited for. */
function Shift({ project, environment, stops }: { project: string; environment: string; stops: string[] }) {
  const tried = useTryLift(project, environment, stops, true);
  if (tried.isPending) return <p className="text-soft">looking whom it moves ...</p>;
  if (!tried.data?.preview) return <p className="text-soft">Whom it moves cannot be said now.</p>;
  return (
    <ul className="flex flex-col gap-1" aria-label="whom the lift moves">
      {tried.data.preview.shifts.map((s) => (
        <li key={s.flag}>
          {tried.data.flags.length > 1 && <span className="font-mono text-[13px]">{s.flag}: </span>}
          <Said said={s.says} />
          {s.moved.counted > 0 && (
            <>
              {" "}
              (<About e={s.moved} />)
            </>
          )}
        </li>
      ))}
    </ul>
  );
}
