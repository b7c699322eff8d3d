import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, must } from "../../api/client";
import { PlanDialog } from "../../parts/plan";
import { Button, Problem, Time } from "../../ui/controls";
import { Dialog } from "../../ui/dialog";
import { About } from "../../ui/estimate";
import { Said, Variant } from "../../ui/variant";

/** Then shows a flag as it stood after a change, what that change moved, and what came since. */
export function Then({ project, environment, flag, revision, names, onClose }: { project: string; environment: string; flag: string; revision: number; names: string[]; onClose: () => void }) {
  const past = useQuery({
    queryKey: [project, "env", environment, "past", flag, revision],
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/flags/{flag}/revisions/{revision}", { params: { path: { project, environment, flag, revision: String(revision) } } })),
  });
  const d = past.data;
  const [back, setBack] = useState(false);
  if (back)
    return (
      <PlanDialog project={project} title={`${flag} in ${environment} as it stood after revision ${revision}`} of={[environment, flag, revision]} verb="Have it so again" done="It stands like that again." onClose={onClose} send={({ reason, units, query }) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/as-it-stood", { params: { path: { project, environment }, query }, body: { revision, flags: [flag], units, reason } }))} />
    );
  return (
    <Dialog open wide onClose={onClose} title={`${flag} in ${environment}, as it stood after revision ${revision}`}>
      <Problem error={past.error} />
      {d && (
        <>
          <p className="text-base">
            <Said said={d.sentence} names={names} />
          </p>
          <ul className="list-disc pl-5 text-soft">
            {d.says.map((s, i) => (
              <li key={`${i} ${s.text}`}>
                {d.document.rules?.[i]?.name ?? "end"}: <Said said={s} names={names} />
              </li>
            ))}
          </ul>
          <h3 className="font-medium">What it moved</h3>
          {d.moved ? (
            <div data-testid="moved">
              <p>
                <Said said={d.moved.says} names={names} />, of the units that were seen lately.
              </p>
              <ul className="flex flex-col gap-1">
                {d.moved.moves.map((m) => (
                  <li key={m.from + m.to + m.then}>
                    <Variant names={names} name={m.from || "fallback"} /> → <Variant names={names} name={m.to || "fallback"} /> <About e={m.moved} /> <span className="text-soft">such as {m.examples.slice(0, 3).join(", ")}</span>
                  </li>
                ))}
              </ul>
            </div>
          ) : (
            <p className="text-soft">It was the first.</p>
          )}
          <h3 className="font-medium">Changed since</h3>
          {d.since.length === 0 && <p className="text-soft">Nothing: it stands like that now.</p>}
          <ul className="list-disc pl-5">
            {d.since.map((line) => (
              <li key={line.text}>
                <Said said={line} names={names} />
              </li>
            ))}
          </ul>
          {d.since.length > 0 && (
            <div>
              <Button onClick={() => setBack(true)}>Have it so again ...</Button>
            </div>
          )}
          <p className="text-soft">
            Made <Time ms={d.made} />.{" "}
            <Link className="underline" to={`/p/${project}/${environment}/flags/${flag}`}>
              As it is now
            </Link>
          </p>
        </>
      )}
    </Dialog>
  );
}
