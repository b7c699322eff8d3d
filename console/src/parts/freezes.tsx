import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { api, must, type Schemas } from "../api/client";
import { useChange } from "../api/queries";
import { Button, inputStyle, Problem, Select, TextField, Time } from "../ui/controls";
import { Said } from "../ui/variant";
import { Word } from "../ui/word";

export function useFreezes(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "freezes"],
    enabled: environment !== "",
    refetchInterval: 60_000, // one may have begun
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/freezes", { params: { path: { project, environment } } })),
  });
}

/** Frozen says on a page of an environment that it is frozen now, and until when. */
export function Frozen({ project, environment, flag }: { project: string; environment: string; flag?: string }) {
  const freezes = useFreezes(project, environment);
  const now = freezes.data?.items.filter((f) => f.until && !(flag && f.flags?.includes(flag))) ?? [];
  if (now.length === 0) return null;
  return (
    <div role="status" className="rounded border border-edge bg-panel px-3 py-2">
      {now.map((f) => (
        <p key={f.id}>
          <b className="font-medium">
            {environment} is <Word of="freeze">frozen</Word> until <Time ms={f.until!} />:
          </b>{" "}
          {f.reason}. <span className="text-soft">Nothing moves units until then but stops, lifts and roll backs; releases wait.</span>
        </p>
      ))}
    </div>
  );
}

const days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;

/** Freezes lists when an environment is frozen, and makes more. */
export function FreezeList({ project, environment, keeper }: { project: string; environment: string; keeper: boolean }) {
  const freezes = useFreezes(project, environment);
  const path = { project, environment };
  const remove = useChange(project, (id: string) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/freezes/{freeze}/remove", { params: { path: { ...path, freeze: id } }, body: {} })));
  const make = useChange(project, (freeze: Schemas["FreezeAsked"]) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/freezes", { params: { path }, body: { freeze } })));
  const [open, setOpen] = useState(false);
  return (
    <div className="my-2">
      <Word of="freeze">Frozen</Word>
      {freezes.data?.items.length === 0 && <span className="text-soft">: never</span>}
      <ul className="flex flex-col gap-1">
        {freezes.data?.items.map((f) => (
          <li key={f.id} className="flex flex-wrap items-center gap-x-3">
            <b className="font-medium">{f.reason}</b> <Said said={f.says} />
            {f.until ? <span className="text-alarm">now, until <Time ms={f.until} /></span> : <span className="text-soft">{f.over ? "over" : "not now"}</span>}
            {keeper && (
              <Button tone="bare" aria-label={`take away: ${f.reason}`} onClick={() => remove.mutate(f.id)}>
                take away
              </Button>
            )}
          </li>
        ))}
      </ul>
      {keeper && !open && (
        <Button tone="bare" aria-label={`freeze ${environment} at times`} onClick={() => setOpen(true)}>
          freeze {environment} at times
        </Button>
      )}
      {open && <NewFreeze environment={environment} busy={make.isPending} onMake={(f) => make.mutate(f, { onSuccess: () => setOpen(false) })} onLeave={() => setOpen(false)} />}
      <Problem error={make.error ?? remove.error} />
    </div>
  );
}

const at = (text: string) => (text === "" ? 0 : new Date(text).getTime());

const here = Intl.DateTimeFormat().resolvedOptions().timeZone;

function NewFreeze({ environment, busy, onMake, onLeave }: { environment: string; busy: boolean; onMake: (f: Schemas["FreezeAsked"]) => void; onLeave: () => void }) {
  const [kind, setKind] = useState("once");
  const [reason, setReason] = useState("");
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const [on, setOn] = useState<string[]>(["fri"]);
  const [begins, setBegins] = useState("12:00");
  const [ends, setEnds] = useState("24:00");
  const [zone, setZone] = useState(here);
  return (
    <form
      className="my-2 flex flex-wrap items-end gap-3 rounded border border-edge p-3"
      onSubmit={(e) => {
        e.preventDefault();
        onMake(kind === "once" ? { reason, ...(from !== "" && { from: at(from) }), to: at(to) } : { reason, weekly: { days: on, from: begins, to: ends, zone } });
      }}
    >
      <TextField label={`Why ${environment} is frozen`} required value={reason} onChange={(e) => setReason(e.target.value)} />
      <Select aria-label="how often" value={kind} onChange={(e) => setKind(e.target.value)} options={[{ value: "once", label: "once" }, { value: "weekly", label: "every week" }]} />
      {kind === "once" ? (
        <>
          <TextField label="From (now if left out)" type="datetime-local" value={from} onChange={(e) => setFrom(e.target.value)} />
          <TextField label="To" type="datetime-local" required value={to} onChange={(e) => setTo(e.target.value)} />
        </>
      ) : (
        <>
          <span className="flex gap-2">
            {days.map((d) => (
              <label key={d} className="flex items-center gap-1">
                <input type="checkbox" checked={on.includes(d)} onChange={(e) => setOn(e.target.checked ? [...on, d] : on.filter((o) => o !== d))} /> {d}
              </label>
            ))}
          </span>
          <input aria-label="from the time of the day" className={`${inputStyle} w-20`} value={begins} onChange={(e) => setBegins(e.target.value)} />
          <input aria-label="to the time of the day" className={`${inputStyle} w-20`} value={ends} onChange={(e) => setEnds(e.target.value)} />
          <TextField label="Zone" value={zone} onChange={(e) => setZone(e.target.value)} />
        </>
      )}
      <Button type="submit" disabled={busy}>Freeze it</Button>
      <Button tone="bare" onClick={onLeave}>leave it</Button>
    </form>
  );
}
