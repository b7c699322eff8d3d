import { useState } from "react";
import { Link } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useShortLived } from "../../api/life";
import { useMay } from "../../api/may";
import { useChange, useEnvironments } from "../../api/queries";
import { Button, Copy, inputStyle, Problem, Select, Sheet, Time } from "../../ui/controls";
import { Word } from "../../ui/word";

const hour = 3_600_000;
const spans = [
  { value: String(12 * hour), label: "12 hours" },
  { value: String(72 * hour), label: "3 days" },
  { value: String(7 * 24 * hour), label: "a week" },
  { value: String(30 * 24 * hour), label: "30 days" },
];

/** ShortLived are the environments that end by themselves, apart from the others. */
export function ShortLived({ project }: { project: string }) {
  const all = useShortLived(project);
  const { may } = useMay(project, "document");
  const [made, setMade] = useState<Schemas["MadeEnvironment"]>();
  const [lasts, setLasts] = useState(spans[1]!.value);
  const prolong = useChange(project, (environment: string) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/prolong", { params: { path: { project, environment } }, body: { for: Number(lasts) } })), (m) => `${m.key} lives on.`);
  return (
    <Sheet title={<Word of="short-lived">Short-lived environments</Word>}>
      <Problem error={all.error ?? prolong.error} />
      {all.data?.families.length === 0 && <p className="text-soft">There is none. One begins with the flags of another environment as they are there, has access keys of its own, and ends by itself.</p>}
      {all.data?.families.map((f) => (
        <section key={f.family} aria-label={`family ${f.family}`} className="mb-3">
          <h3 className="font-medium">{f.family}</h3>
          <ul className="flex flex-col gap-1">
            {f.items.map((e) => (
              <li key={e.key} className="flex flex-wrap items-baseline gap-x-3">
                {e.state ? (
                  <span className="font-mono text-[13px] text-soft">{e.key}</span>
                ) : (
                  <Link className="font-mono text-[13px] underline" to={`/p/${project}?show=${e.key}`}>
                    {e.key}
                  </Link>
                )}
                <span className="text-soft">
                  from {e.from}, by {e.name}
                </span>
                <span>{e.state ? "has ended" : <>until <Time ms={e.until!} /></>}</span>
                {may && (
                  <Button className="ml-auto" disabled={prolong.isPending} onClick={() => prolong.mutate(e.key, { onSuccess: (m) => setMade(m.keys.length > 0 ? m : undefined) })}>
                    Prolong {e.key}
                  </Button>
                )}
              </li>
            ))}
            {f.gives.map((g) => (
              <li key={g.flag} className="text-soft">
                <span className="font-mono text-[13px]">{g.flag}</span> gives {g.variant} in all of them
              </li>
            ))}
          </ul>
        </section>
      ))}
      {may && <Branch project={project} lasts={lasts} onLasts={setLasts} onMade={setMade} />}
      {made && (
        <div className="mt-2 flex flex-col gap-1 rounded bg-note px-3 py-2">
          <p>The secrets of {made.key} are shown once:</p>
          {made.keys.map((k) => (
            <p key={k.id} className="flex flex-wrap items-center gap-2">
              {k.kind} <code className="break-all">{k.secret}</code> <Copy text={k.secret ?? ""} label={`copy the ${k.kind} key`} />
            </p>
          ))}
        </div>
      )}
    </Sheet>
  );
}

function Branch({ project, lasts, onLasts, onMade }: { project: string; lasts: string; onLasts: (v: string) => void; onMade: (m: Schemas["MadeEnvironment"]) => void }) {
  const environments = useEnvironments(project);
  const [key, setKey] = useState("");
  const [from, setFrom] = useState("");
  const [reason, setReason] = useState("");
  const source = from || environments.data?.items.find((e) => !e.askFirst)?.key || "";
  const asks = environments.data?.items.find((e) => e.key === source)?.askFirst ?? false;
  const make = useChange(project, () => must(api.POST("/api/v1/projects/{project}/environments/{environment}/branch", { params: { path: { project, environment: source } }, body: { key, for: Number(lasts), reason } })), (m) => `${m.key} is made.`);
  return (
    <div className="flex flex-wrap items-center gap-2">
      <input aria-label="key of the short-lived environment" placeholder="key, such as review-482" className={`${inputStyle} w-52`} value={key} onChange={(e) => setKey(e.target.value)} />
      <Select aria-label="from which environment" value={source} onChange={(e) => setFrom(e.target.value)} options={(environments.data?.items ?? []).map((e) => ({ value: e.key, label: `from ${e.key}` }))} />
      <Select aria-label="for how long" value={lasts} onChange={(e) => onLasts(e.target.value)} options={spans} />
      {asks && <input aria-label="why branch" placeholder="why?" className={inputStyle} value={reason} onChange={(e) => setReason(e.target.value)} />}
      <Button tone="lever" disabled={key === "" || source === "" || make.isPending || (asks && reason.trim() === "")} onClick={() => make.mutate(undefined, { onSuccess: (m) => { setKey(""); onMade(m); } })}>
        Branch it
      </Button>
      <Problem error={make.error} />
    </div>
  );
}
