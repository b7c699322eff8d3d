import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useCode, useRetiring } from "../../api/life";
import { useMay } from "../../api/may";
import { useChange, useEnvironments } from "../../api/queries";
import { Button, inputStyle, Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { Variant } from "../../ui/variant";

/** Retiring lists the flags at the end of their lives, and where code and flags do not fit. */
export default function Retiring() {
  const { project = "" } = useParams();
  const all = useRetiring(project);
  const code = useCode(project);
  const environments = useEnvironments(project);
  const { may } = useMay(project, "define");
  const [reason, setReason] = useState("");
  const first = environments.data?.items.at(-1)?.key ?? "";
  const retire = useChange(project, (flag: string) => must(api.POST("/api/v1/projects/{project}/flags/{flag}/retire", { params: { path: { project, flag } }, body: { reason } })), (d) => `${d.key} is retired.`);
  const restore = useChange(project, (flag: string) => must(api.POST("/api/v1/projects/{project}/flags/{flag}/restore", { params: { path: { project, flag } }, body: { reason } })), (d) => `${d.key} is back, as it stood.`);
  const unknown = code.data?.unknown ?? [];
  return (
    <Page title="Retiring" aside={may && <input aria-label="why retire or restore" placeholder="why?" className={`${inputStyle} w-64`} value={reason} onChange={(e) => setReason(e.target.value)} />}>
      <Problem error={all.error ?? code.error ?? retire.error ?? restore.error} />
      {all.isPending && <Waiting what="the flags" />}
      {all.data && (
        <Sheet title={`Ready to be retired: ${all.data.ready.length}`}>
          {all.data.ready.length === 0 && <p className="text-soft">A flag is ready when all got one variant for a while in every environment, no release of it runs, and no code asks for it or no process did for a while.</p>}
          <ul className="flex flex-col gap-3">
            {all.data.ready.map((f) => (
              <li key={f.key} className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b border-line pb-2 last:border-0">
                <Link className="font-mono text-[13px] underline" to={`/p/${project}/${first}/flags/${f.key}`}>
                  {f.key}
                </Link>
                <span>{f.title}</span>
                <span className="text-soft">{f.goneBy === "stays" ? "stays" : `gone by ${f.goneBy}`}</span>
                {may && (
                  <Button className="ml-auto" disabled={retire.isPending} onClick={() => retire.mutate(f.key)}>
                    Retire {f.key}
                  </Button>
                )}
                <Settled of={f.readiness} />
              </li>
            ))}
          </ul>
        </Sheet>
      )}
      {all.data && all.data.retired.length > 0 && (
        <Sheet title="Retired">
          <ul className="flex flex-col gap-2">
            {all.data.retired.map((d) => (
              <li key={d.key} className="flex flex-wrap items-baseline gap-x-3">
                <span className="font-mono text-[13px]">{d.key}</span>
                <span>{d.title}</span>
                <span className="text-soft">
                  <Time ms={d.retired!.at} />
                </span>
                {may && (
                  <Button className="ml-auto" disabled={restore.isPending} onClick={() => restore.mutate(d.key)}>
                    Restore {d.key}
                  </Button>
                )}
              </li>
            ))}
          </ul>
        </Sheet>
      )}
      {code.data && (
        <Sheet title="In code">
          {code.data.scans.length === 0 && (
            <p className="text-soft">
              No code was looked at yet: <code>greenlever places scan . --report</code> finds where it asks for flags.
            </p>
          )}
          <ul className="flex flex-col gap-1">
            {code.data.scans.map((s) => (
              <li key={s.repository + s.branch}>
                <b className="font-medium">{s.repository}</b>, {s.branch} at <span className="font-mono text-[13px]">{s.commit.slice(0, 12)}</span>, <Time ms={s.at} />: {s.places.length} places
              </li>
            ))}
          </ul>
          {unknown.length > 0 && (
            <>
              <h3 className="mt-3 font-medium">Asked for, and not there</h3>
              <ul className="flex flex-col gap-1">
                {unknown.map((u) => (
                  <li key={u.repository + u.file + u.line}>
                    <span className="font-mono text-[13px]">{u.flag}</span> {u.retired ? "is retired" : u.nearest ? `was never defined; did you mean ${u.nearest}?` : "was never defined"} <span className="text-soft">{u.repository}/{u.file}:{u.line}</span>
                  </li>
                ))}
              </ul>
            </>
          )}
          {code.data.unasked.length > 0 && (
            <p className="mt-3">
              No code asks for <span className="font-mono text-[13px]">{code.data.unasked.join(", ")}</span>.
            </p>
          )}
        </Sheet>
      )}
    </Page>
  );
}

/** Settled says what all got, by environment. */
export function Settled({ of: r }: { of: Schemas["Readiness"] }) {
  return (
    <ul className="w-full">
      {r.in.map((i) => (
        <li key={i.environment} className="text-soft">
          {i.environment}:{" "}
          {i.given && i.given.length > 1 ? (
            `several variants were given: ${i.given.join(", ")}`
          ) : i.variant ? (
            <>
              all got <Variant names={[i.variant]} name={i.variant} /> for {r.span}
            </>
          ) : (
            "nobody asked"
          )}
          {i.could && i.could.length > 0 && `; could still give another: ${i.could.join(", ")}`}
        </li>
      ))}
    </ul>
  );
}
