import { Said } from "../../ui/variant";
import { Link, useParams } from "react-router";
import { useMakeFlag } from "../../api/queries";
import { useRadar } from "../../api/usage";
import { Button, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { processName } from "../../ui/processes";
import { Place } from "./place";

/** Where decisions do not do what somebody thinks they do. */
export default function Radar() {
  const { project = "", environment = "" } = useParams();
  const radar = useRadar(project, environment);
  const make = useMakeFlag(project);
  const r = radar.data;
  const flag = (key: string) => (
    <Link className="underline" to={`/p/${project}/${environment}/flags/${key}`}>
      {key}
    </Link>
  );
  return (
    <Place>
      {radar.error && <Problem error={radar.error} />}
      {!r && !radar.error && <Waiting what="the radar" />}
      {r && (
        <>
          {r.aside.length > 0 && (
            <Sheet title="Cannot be read, and is left out">
              <ul className="flex flex-col gap-1">
                {r.aside.map((a) => (
                  <li key={a.kind + a.key}>
                    {a.kind} <span className="font-mono">{a.kind === "list" ? a.key.slice(0, 12) : a.key}</span>: <span className="text-soft">{a.why}</span>
                  </li>
                ))}
              </ul>
              <p className="mt-2">Everything else goes on. It is tried again every half minute; the rows in the records need mending.</p>
            </Sheet>
          )}
          <Sheet title="Asked for, but not defined">
            <Problem error={make.error} />
            <ul className="flex flex-col gap-2">
              {r.unknown.map((u) => (
                <li key={u.flag} className="flex flex-wrap items-center justify-between gap-x-4">
                  <span>
                    <span className="font-mono">{u.flag}</span>
                    {u.type && <span className="text-soft"> as {u.type}, fallback {u.fallback}</span>}
                    {u.application && <span className="text-soft"> by {u.application}</span>}
                    {u.nearest && <> – is it {flag(u.nearest)}?</>}
                  </span>
                  <span className="flex items-center gap-3">
                    <span className="text-soft">
                      first <Time ms={u.first} />
                    </span>
                    {u.suggested && (
                      <Button disabled={make.isPending} onClick={() => make.mutate({ body: u.suggested!, reason: "asked for by code and not defined" })}>
                        Define it so
                      </Button>
                    )}
                  </span>
                </li>
              ))}
              {r.unknown.length === 0 && <li className="text-soft">Every flag that code asks for is defined.</li>}
            </ul>
          </Sheet>
          <Sheet title="Processes that decide by something else than they should">
            <ul className="flex flex-col gap-1">
              {[...r.old, ...r.busy].map((s) => (
                <li key={s.id + s.says}>
                  <span className="font-medium">{processName(s)}</span> <span className="font-mono text-xs text-soft">{s.id.slice(0, 8)}</span> {s.says}
                </li>
              ))}
              {r.old.length + r.busy.length === 0 && <li className="text-soft">All decide by the newest revision, from the service, for many units.</li>}
            </ul>
          </Sheet>
          {r.overdue.length > 0 && (
            <Sheet title="Past their time">
              <ul className="flex flex-col gap-1">
                {r.overdue.map((f) => (
                  <li key={f.flag + f.check + (f.rule ?? "")}>
                    {flag(f.flag)} {f.place && <i>{f.place}</i>} <Said said={f.says} />. <span className="text-soft">Mend: {f.mend}.</span>
                  </li>
                ))}
              </ul>
            </Sheet>
          )}
          <div className="grid gap-4 lg:grid-cols-2">
            <Sheet title="Asked for as another type">
              <ul>
                {r.mistyped.map((a) => (
                  <li key={a.flag}>
                    {flag(a.flag)} <span className="text-soft">as {a.type} by {a.application}: the fallback {a.fallback} was used</span>
                  </li>
                ))}
                {r.mistyped.length === 0 && <li className="text-soft">None.</li>}
              </ul>
            </Sheet>
            <Sheet title="Defined, but nobody asks">
              <ul>
                {r.unasked.map((u) => (
                  <li key={u.flag}>
                    {flag(u.flag)} <span className="text-soft">{u.last ? <>last asked for <Time ms={u.last} /></> : "never asked for"}</span>
                  </li>
                ))}
                {r.unasked.length === 0 && <li className="text-soft">None for longer than a week.</li>}
              </ul>
            </Sheet>
          </div>
        </>
      )}
    </Place>
  );
}
