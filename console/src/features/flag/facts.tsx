import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useOld } from "../../api/connection";
import { useInstances } from "../../api/queries";
import { useLint } from "../../api/targeting";
import { AsOf } from "../../ui/as-of";
import { Time } from "../../ui/controls";
import { processName } from "../../ui/processes";
import { Word } from "../../ui/word";

/** Facts answer what one asks of a flag first: since when and by whom, is it healthy, what is planned. */
export function Facts({ project, environment, view }: { project: string; environment: string; view: Schemas["FlagView"] }) {
  const { definition, document, asked, stops } = view;
  const found = useLint(project, environment, definition.key);
  const d = useInstances(project, environment);
  const old = useOld(d);
  const careful = found.data?.items.filter((f) => !f.muted).length ?? 0;
  const tooOld = [...(d.data?.instances ?? []), ...(d.data?.lost ?? [])].filter((i) => i.tooOld?.includes(definition.key));
  const stop = stops[0];
  return (
    <dl className="grid grid-cols-[repeat(auto-fit,minmax(10.5rem,1fr))] gap-x-4 gap-y-3" data-testid="facts">
      <Fact name="since">
        {stop ? (
          <span className="text-alarm">
            stopped <Time near ms={stop.at} /> by {stop.byName}
          </span>
        ) : (
          <>
            <Time near ms={view.changed} />
            {view.by && <> by {view.by}</>}
          </>
        )}
        <Small>{stop ? stop.reason : view.reason}</Small>
      </Fact>
      <Fact name={<Word of="delivery">delivered</Word>}>
        {d.data ? (
          <>
            to {d.data.delivered} of {d.data.alive} {d.data.alive === 1 ? "process" : "processes"}
            <AsOf at={old} />
            {d.data.lost.length > 0 && <span className="text-alarm">, {d.data.lost.length} lost</span>}
          </>
        ) : (
          "not known"
        )}
        {tooOld.length > 0 && (
          <span role="status" className="block text-alarm">
            {tooOld.length === 1 ? "One process is" : `${tooOld.length} processes are`} too old for this flag and {tooOld.length === 1 ? "gives" : "give"} {document.resting}: {[...new Set(tooOld.map(processName))].join(", ")}
          </span>
        )}
      </Fact>
      <Fact name="asked for">
        {asked ? (
          <>
            <Time near ms={asked.last} />
            {asked.application && <> by {asked.application}</>}
            <Small>
              by code since <Time ms={asked.first} />
            </Small>
          </>
        ) : (
          <a href="#in-code" className="underline">
            not by any code yet: take the lines below
          </a>
        )}
      </Fact>
      <Fact name="to look at">
        {careful === 0 ? (
          "nothing"
        ) : (
          <a href="#to-look-at" className="font-medium underline">
            {careful} {careful === 1 ? "thing" : "things"}
          </a>
        )}
      </Fact>
      <Fact name={<Word of="gone by" />}>
        {definition.goneBy}
        <Small>{definition.owners.length > 0 ? `owned by ${definition.owners.join(", ")}` : "nobody owns it"}</Small>
      </Fact>
      <Fact name="history">
        <Link className="inline-block min-h-6 underline" to={`/p/${project}/history?flag=${definition.key}&environment=${environment}`}>
          version {view.version}, of revision {view.revision}
        </Link>
        <Small>
          <Link className="inline-block min-h-6 underline" to={`/p/${project}/${environment}/why?flag=${definition.key}`}>
            Ask why
          </Link>
        </Small>
      </Fact>
    </dl>
  );
}

function Fact({ name, children }: { name: ReactNode; children: ReactNode }) {
  return (
    <div className="min-w-0 border-l-2 border-line pl-3">
      <dt className="text-xs text-soft">{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}

const Small = ({ children }: { children: ReactNode }) => (children ? <span className="block text-xs text-soft">{children}</span> : null);
