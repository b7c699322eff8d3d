import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { clock } from "../../clock";
import { Wave } from "../../parts/wave";
import { Button, inputStyle, Problem, Sheet, Time } from "../../ui/controls";
import { soon } from "../../draw/wave";
import { Word } from "../../ui/word";

/** For so long after a drill it is seen who has it, and how often, in milliseconds. */
const watched = { for: 60_000, every: 1_000 };

/** Drills are the stops that were practised here: nothing is stopped, and it is measured who would have had it. */
export function Drills({ project, environment }: { project: string; environment: string }) {
  const key = [project, "env", environment, "drills"];
  const path = { project, environment };
  const all = useQuery({
    queryKey: key,
    refetchInterval: (q) => (q.state.data?.items.some((d) => clock() - d.at < watched.for && d.wave && d.wave.reached < d.wave.expected) ? watched.every : false),
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/drills", { params: { path } })),
  });
  const again = useQueryClient();
  const { may } = useMay(project, "stop");
  const [typed, setTyped] = useState<string>();
  const [shown, setShown] = useState<string>();
  const due = all.data?.due;
  const suggested = (due?.flags ?? []).slice(0, 20).map((f) => f.id).join(" ");
  const words = (typed ?? suggested).split(/[\s,]+/).filter(Boolean);
  const rehearse = useMutation({
    mutationFn: () => must(api.POST("/api/v1/projects/{project}/environments/{environment}/drills", { params: { path }, body: { flags: words } })),
    onSuccess: (held) => {
      setShown(held.id);
      setTyped(undefined);
      void again.invalidateQueries({ queryKey: key });
    },
  });
  return (
    <Sheet title={<Word of="drill">Drills</Word>}>
      <div className="flex flex-col gap-3">
        {due && due.flags.length + due.tripwires.length > 0 && (
          <p>
            Not practised within {all.data?.days} days:{" "}
            <span className="break-words">
              {due.flags.length > 0 && `${due.flags.length} ${due.flags.length === 1 ? "flag that is on" : "flags that are on"}`}
              {due.flags.length > 0 && due.tripwires.length > 0 && ", "}
              {due.tripwires.length > 0 && <>{due.tripwires.length === 1 ? "tripwire" : "tripwires"} {due.tripwires.map((w) => w.title).join(", ")}</>}
            </span>
          </p>
        )}
        {due && due.flags.length + due.tripwires.length === 0 && <p className="text-soft">All that is on was practised within {all.data?.days} days.</p>}
        {may && (
          <form
            className="flex flex-wrap items-end gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              rehearse.mutate();
            }}
          >
            <label className="flex min-w-0 flex-1 flex-col gap-1">
              Flags to rehearse
              <input className={`${inputStyle} min-h-11 w-full font-mono text-[13px]`} autoCapitalize="none" autoComplete="off" value={typed ?? suggested} onChange={(e) => setTyped(e.target.value)} />
            </label>
            <Button type="submit" className="min-h-11" disabled={rehearse.isPending || words.length === 0}>
              Rehearse a stop
            </Button>
            <span className="basis-full text-soft">Nothing is stopped: a revision that changes nothing goes the way of a stop, and it is measured who has it.</span>
          </form>
        )}
        <Problem error={rehearse.error ?? all.error} />
        <ul className="flex flex-col gap-2">
          {all.data?.items.slice(0, 10).map((d) => (
            <li key={d.id}>
              <div className="flex flex-wrap items-baseline gap-x-3">
                <span className="min-w-0 flex-1">
                  {d.kind === "practice" ? "practice stop of " : "rehearsed "}
                  {d.tripwireName && `tripwire ${d.tripwireName}: `}
                  <span className="font-mono text-[13px] break-words">{d.flags.slice(0, 5).join(", ")}</span>
                  {d.flags.length > 5 && ` and ${d.flags.length - 5} more`}
                  <span className="text-soft">
                    {" "}
                    by {d.byName}, <Time near ms={d.at} />
                    {d.wave && `: ${came(d.wave)}`}
                  </span>
                </span>
                <Button tone="bare" className="underline" aria-expanded={shown === d.id} aria-label={`${shown === d.id ? "close" : "who had"} the drill of ${d.flags.slice(0, 5).join(", ")}`} onClick={() => setShown(shown === d.id ? undefined : d.id)}>
                  {shown === d.id ? "close" : "who had it"}
                </Button>
              </div>
              {shown === d.id && <Held project={project} environment={environment} drill={d.id} />}
            </li>
          ))}
        </ul>
      </div>
    </Sheet>
  );
}

const came = (d: Schemas["Delivery"]): string => (d.expected === 0 ? "no process was there" : d.all >= 0 ? `all ${d.expected} after ${soon(d.all)}` : `${d.reached} of ${d.expected}`);

/** Held is one drill with who had it when; soon after it, it is read again and again. */
function Held({ project, environment, drill }: { project: string; environment: string; drill: string }) {
  const one = useQuery({
    queryKey: [project, "env", environment, "drills", drill],
    refetchInterval: (q) => {
      const d = q.state.data;
      return d && clock() - d.at < watched.for && !(d.wave && d.wave.expected > 0 && d.wave.reached === d.wave.expected) ? watched.every : false;
    },
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/drills/{drill}", { params: { path: { project, environment, drill } } })),
  });
  return (
    <div className="mt-2">
      <Problem error={one.error} />
      {one.data?.wave ? <Wave of={one.data.wave} /> : one.data && <p className="text-soft">The records do not know any more who had it.</p>}
    </div>
  );
}
