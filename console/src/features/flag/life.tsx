import { useState } from "react";
import { useNavigate } from "react-router";
import { api, must } from "../../api/client";
import { useReadiness } from "../../api/life";
import { useMay } from "../../api/may";
import { useChange } from "../../api/queries";
import { Button, inputStyle, Problem, Sheet } from "../../ui/controls";
import { Said, Variant } from "../../ui/variant";

/** Life is where code asks for the flag, and whether it can be retired. */
export function Life({ project, flag }: { project: string; flag: string }) {
  const r = useReadiness(project, flag, true);
  const { may } = useMay(project, "define");
  const [reason, setReason] = useState("");
  const go = useNavigate();
  const retire = useChange(project, () => must(api.POST("/api/v1/projects/{project}/flags/{flag}/retire", { params: { path: { project, flag } }, body: { reason } })), () => `${flag} is retired.`);
  const d = r.data;
  return (
    <Sheet title="In code, and out of it again">
      <Problem error={r.error} />
      {d && (
        <div className="flex flex-col gap-2">
          {d.places.length > 0 ? (
            <ul aria-label="places in code" className="flex flex-col gap-1">
              {d.places.slice(0, 50).map((p) => (
                <li key={p.file + p.line} className="flex flex-wrap gap-x-3">
                  <span className="font-mono text-[13px] break-all">
                    {p.file}:{p.line}
                  </span>
                  <code className="min-w-0 text-soft break-all">{p.code}</code>
                </li>
              ))}
              {d.places.length > 50 && <li>and {d.places.length - 50} more</li>}
            </ul>
          ) : (
            <p className="text-soft">{d.scanned ? "No code that was looked at asks for it." : <>No code was looked at: <code>greenlever places scan . --report</code> does.</>}</p>
          )}
          <ul aria-label="how settled it is">
            {d.in.map((i) => (
              <li key={i.environment}>
                {i.environment}: {i.given && i.given.length > 1 ? `several variants were given in ${d.span}: ${i.given.join(", ")}` : i.variant ? <>all got <Variant names={[i.variant]} name={i.variant} /> for {d.span}</> : `nobody asked in ${d.span}`}
                {i.could && i.could.length > 0 && <span className="text-soft">; could still give another: {i.could.join(", ")}</span>}
              </li>
            ))}
          </ul>
          {d.ready ? (
            may && (
              <div className="flex flex-wrap items-center gap-2">
                <span>It is ready to be retired.</span>
                <input aria-label="why retire it" className={`${inputStyle} min-w-0 flex-1 basis-48`} placeholder="why?" value={reason} onChange={(e) => setReason(e.target.value)} />
                <Button disabled={retire.isPending} onClick={() => retire.mutate(undefined, { onSuccess: () => void go(`/p/${project}/retiring`) })}>
                  Retire the flag
                </Button>
              </div>
            )
          ) : (
            <div>
              <p>It cannot be retired yet:</p>
              <ul className="list-disc pl-5">
                {d.inTheWay.map((w) => (
                  <li key={w.text}>
                    <Said said={w} />
                  </li>
                ))}
              </ul>
            </div>
          )}
          <Problem error={retire.error} />
        </div>
      )}
    </Sheet>
  );
}
