import { useState } from "react";
import type { Act, ReleaseView } from "../../api/releases";
import { halts, news, useAct, useTryAct } from "../../api/releases";
import { ApiProblem } from "../../api/client";
import { useMay } from "../../api/may";
import { useReason } from "../../draft/reason";
import { Button, Field, Problem, Select, TextField } from "../../ui/controls";
import { About } from "../../ui/estimate";
import { Said } from "../../ui/variant";

interface Way {
  do: NonNullable<Act["do"]> | "hold" | "roll-back";
  label: string;
  says: string; // what comes of it
}

const ways: Record<string, Way> = {
  "go-on": { do: "go-on", label: "Go on", says: "It goes on where it was held." },
  next: { do: "next", label: "Next stage now", says: "The next stage begins, without waiting for what this one waits for." },
  hold: { do: "hold", label: "Hold", says: "It stays where it is. Nobody loses what they have." },
  sign: { do: "sign", label: "Sign", says: "You sign that it may go on." },
  decline: { do: "decline", label: "Decline", says: "It does not go on." },
  finish: { do: "finish", label: "Finish", says: "What it gave becomes the flag's own, and the release is over." },
  "roll-back": { do: "roll-back", label: "Roll back", says: "What it gave is taken back; all else of the flag stays." },
};

/** The two that make sense first where a release stands, and then the others. */
const first: Record<string, string[]> = {
  waiting: ["next", "roll-back", "hold"],
  arriving: ["hold", "roll-back", "next", "finish"],
  "under-way": ["next", "hold", "roll-back", "finish"],
  asking: ["sign", "decline", "hold", "roll-back"],
  held: ["go-on", "roll-back", "next", "finish"],
  through: ["finish", "roll-back", "hold"],
};

/** Acts are what can be done with a release now: two stand out, each is confirmed with what it moves. */
export function Acts({ project, environment, release: r, askFirst }: { project: string; environment: string; release: ReleaseView; askFirst: boolean }) {
  const [chosen, setChosen] = useState<string>();
  const release = useMay(project, "release");
  const stop = useMay(project, "stop");
  const last = r.state.at === r.state.plan.stages.length - 1;
  const offered = (first[r.state.is] ?? []).filter((w) => (w === "sign" || w === "decline" ? r.mine : halts.includes(w) ? stop.may : release.may) && !(w === "next" && last));
  if (first[r.state.is] === undefined) return null;
  return (
    <div className="flex flex-col gap-3">
      <div className="flex flex-wrap gap-2">
        {offered.map((w, i) => (
          <Button key={w} tone={w === "roll-back" ? "alarm" : i === 0 ? "lever" : i === 1 ? "plain" : "bare"} aria-expanded={chosen === w} onClick={() => setChosen(chosen === w ? undefined : w)}>
            {ways[w]!.label}
          </Button>
        ))}
        {offered.length === 0 && <span className="text-soft">{release.takes || "It waits for somebody else."}</span>}
      </div>
      {chosen && offered.includes(chosen) && <Confirm key={`${chosen} ${r.state.sequence}`} project={project} environment={environment} release={r} way={ways[chosen]!} askFirst={askFirst} onDone={() => setChosen((now) => (now === chosen ? undefined : now)) /* somebody may have chosen another one meanwhile */} />}
    </div>
  );
}

function Confirm({ project, environment, release: r, way, askFirst, onDone }: { project: string; environment: string; release: ReleaseView; way: Way; askFirst: boolean; onDone: () => void }) {
  const [reason, setReason] = useReason(`${project} release ${r.flag}`);
  const [outcome, setOutcome] = useState("");
  const [drop, setDrop] = useState<string[]>([]);
  const [early, setEarly] = useState(false);
  const [units, setUnits] = useState("");
  const halt = halts.includes(way.do);
  const finish = way.do === "finish";
  const several = news(r.state.plan);
  const [give, setGive] = useState("");
  const act: Act = { do: way.do as Act["do"], sequence: r.state.sequence, ...(finish && { drop, outcome, early, ...(give && { give }) }), ...(units.trim() !== "" && { units: Number(units) }) } as Act;
  const tried = useTryAct(project, environment, r.id, way.do === "hold" || (finish && several.length > 1 && !give) ? undefined : ({ ...act, ...(finish && { early: true }) } as Act));
  const done = useAct(project, environment, r.id);
  const shift = tried.data?.preview?.shifts[0];
  const asksEarly = done.error instanceof ApiProblem && done.error.more["early"] === true;
  const sweep = finish && shift?.sweep === true && askFirst;
  return (
    <form
      className="flex max-w-3xl flex-col gap-3 rounded border border-edge bg-well p-3"
      onSubmit={(e) => {
        e.preventDefault();
        done.mutate({ ...act, reason }, { onSuccess: onDone });
      }}
    >
      <p>{way.says}</p>
      {tried.data && tried.data.difference.length > 0 && (
        <ul className="list-disc pl-5">
          {tried.data.difference.map((d, i) => (
            <li key={`${i}`}>
              <Said said={d} names={r.variants} />
            </li>
          ))}
        </ul>
      )}
      {shift && (
        <p>
          <Said said={shift.says} names={r.variants} />
          {shift.moved.counted > 0 && (
            <>
              {" "}
              (<About e={shift.moved} />)
            </>
          )}
        </p>
      )}
      {finish && (
        <>
          {several.length > 1 && <Field label="All get">{(id) => <Select id={id} value={give} onChange={(e) => setGive(e.target.value)} options={[{ value: "", label: "say which one" }, ...several]} />}</Field>}
          <TextField label="Outcome" hint={r.expected ? `expected: ${r.expected}` : "what came of it"} value={outcome} onChange={(e) => setOutcome(e.target.value)} />
          {r.unneeded.length > 0 && (
            <fieldset>
              <legend className="font-medium">These rules decide nothing more then. Take them out with it:</legend>
              {r.unneeded.map((u) => (
                <label key={u.id} className="flex items-center gap-2">
                  <input type="checkbox" checked={drop.includes(u.id)} onChange={(e) => setDrop(e.target.checked ? [...drop, u.id] : drop.filter((d) => d !== u.id))} /> {u.name}
                </label>
              ))}
            </fieldset>
          )}
          {asksEarly && (
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={early} onChange={(e) => setEarly(e.target.checked)} /> give it to all whom it is for, at once
            </label>
          )}
          {sweep && <TextField label="How many units that is" hint="as said above: type the number" value={units} onChange={(e) => setUnits(e.target.value)} />}
        </>
      )}
      <TextField label={halt || !askFirst ? "Why (may be left out)" : "Why"} value={reason} onChange={(e) => setReason(e.target.value)} />
      <Problem error={done.error ?? (tried.error instanceof ApiProblem && tried.error.status === 409 ? tried.error : null)} />
      <div className="flex gap-2">
        <Button type="submit" tone={way.do === "roll-back" ? "confirm" : "lever"} disabled={done.isPending || (askFirst && !halt && reason.trim() === "") || (asksEarly && !early) || (finish && several.length > 1 && !give)}>
          {way.do === "roll-back" ? "Roll it back" : way.label === "Hold" ? "Hold it" : `Confirm: ${way.label.toLowerCase()}`}
        </Button>
        <Button tone="bare" onClick={onDone}>
          Leave it
        </Button>
      </div>
    </form>
  );
}
