import { useState } from "react";
import { Link } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useChange, useEditDefinition } from "../../api/queries";
import { useLint, useSnippets, useUnits } from "../../api/targeting";
import { Button, Copy, inputStyle, Problem, Select, Sheet, Time } from "../../ui/controls";
import { Dialog } from "../../ui/dialog";
import { takeOut } from "../../ui/typed";
import { Said } from "../../ui/variant";
import { Word } from "../../ui/word";

export function Snippets({ project, environment, flag }: { project: string; environment: string; flag: string }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("Go");
  const all = useSnippets(project, environment, flag, open);
  const shown = all.data?.items.find((s) => s.name === name);
  return (
    <Sheet
      id="in-code"
      title="In code"
      aside={
        <Button tone="bare" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "close" : "show"}
        </Button>
      }
    >
      {!open && <p className="text-soft">Lines that ask for this flag, for Go, a browser, OpenFeature and HTTP.</p>}
      {open && (
        <>
          <div className="mb-2 flex items-center gap-2">
            <Select aria-label="language of the snippet" value={name} onChange={(e) => setName(e.target.value)} options={all.data?.items.map((s) => s.name) ?? []} />
            {shown && <Copy text={shown.code} />}
          </div>
          <pre className="overflow-auto rounded border border-line bg-page p-2 text-xs" data-testid="snippet">
            {shown?.code}
          </pre>
          <Problem error={all.error} />
        </>
      )}
    </Sheet>
  );
}

/** SeeAs gets an override for one's own session. */
export function SeeAs({ project, environment, flag, names, askFirst, resting }: { project: string; environment: string; flag: string; names: string[]; askFirst: boolean; resting: string }) {
  const [variant, setVariant] = useState(names.find((n) => n !== resting) ?? "");
  const { may, takes } = useMay(project, "see-as");
  const [minutes, setMinutes] = useState("60");
  const [reason, setReason] = useState("");
  const issue = useChange(project, () => must(api.POST("/api/v1/projects/{project}/environments/{environment}/see-as", { params: { path: { project, environment } }, body: { variants: { [flag]: variant }, minutes: Number(minutes), reason } })));
  const cookie = issue.data && `document.cookie = "greenlever_see_as=${issue.data.token}; path=/; max-age=${60 * Number(minutes)}"`;
  return (
    <Sheet title={<Word of="see it as">See it as</Word>}>
      <p className="mb-2 text-soft">A signed override for your own session: it touches no rule, nobody else sees it, and it is in the history.</p>
      <div className="flex flex-wrap items-center gap-2">
        <Select aria-label="see it as" value={variant} onChange={(e) => setVariant(e.target.value)} options={names} />
        for
        <Select aria-label="how long" value={minutes} onChange={(e) => setMinutes(e.target.value)} options={[{ value: "15", label: "15 minutes" }, { value: "60", label: "an hour" }, { value: "480", label: "8 hours" }]} />
        {askFirst && <input aria-label="why see it" className={`${inputStyle} min-w-0 flex-1`} placeholder="why? (may be left out)" value={reason} onChange={(e) => setReason(e.target.value)} />}
        <Button disabled={!may || issue.isPending} onClick={() => issue.mutate(undefined)}>
          Get it
        </Button>
      </div>
      {issue.data && (
        <div className="mt-2 flex flex-col gap-1 text-xs">
          <div>
            Good until <Time ms={issue.data.until} />. As a request header:
          </div>
          <pre className="overflow-auto rounded border border-line bg-page p-2" data-testid="see-as">
            Greenlever-See-As: {issue.data.token}
          </pre>
          <div className="flex items-center gap-2">
            As a cookie of the application's page: <Copy text={cookie ?? ""} />
          </div>
        </div>
      )}
      {!may && <p className="text-xs text-soft">{takes}</p>}
      <Problem error={issue.error} />
    </Sheet>
  );
}

/** Checks shows what is probably wrong, and mutes it with a reason. */
export function Checks({ project, environment, definition }: { project: string; environment: string; definition: Schemas["Definition"] }) {
  const found = useLint(project, environment, definition.key);
  const edit = useEditDefinition(project, definition.key);
  const [muting, setMuting] = useState("");
  const [reason, setReason] = useState("");
  const muted = definition.muted ?? [];
  const put = (next: Schemas["Mute"][]) => edit.mutate({ version: definition.version, body: { muted: next } }, { onSuccess: () => { takeOut(setMuting, muting); takeOut(setReason, reason); } });
  if (!found.data || found.data.items.length === 0) return null;
  return (
    <Sheet id="to-look-at" title="To look at">
      <ul className="flex flex-col gap-2" data-testid="checks">
        {found.data.items.map((f) => (
          <li key={f.check + (f.rule ?? "") + f.says.text} className={f.muted ? "opacity-60" : ""}>
            {f.place && <i>{f.place} </i>}
            <Said said={f.says} />. <span className="text-soft">Mend: {f.mend}.</span>
            {f.muted ? (
              <span className="text-soft">
                {" "}
                Muted: {f.muted}{" "}
                <Button tone="bare" onClick={() => put(muted.filter((m) => m.check !== f.check))}>
                  hear of it again
                </Button>
              </span>
            ) : muting === f.check ? (
              <span className="mt-1 flex gap-2">
                <input aria-label="why mute it" className={`${inputStyle} min-w-0 flex-1`} placeholder="why is this as it should be?" value={reason} onChange={(e) => setReason(e.target.value)} />
                <Button disabled={reason.trim() === "" || edit.isPending} onClick={() => put([...muted, { check: f.check, reason }])}>
                  Mute
                </Button>
              </span>
            ) : (
              <Button tone="bare" onClick={() => setMuting(f.check)}>
                mute
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Problem error={edit.error} />
    </Sheet>
  );
}

/** Who lists the units on a branch. */
export function Who({ project, environment, flag, at, title, onClose }: { project: string; environment: string; flag: string; at: string; title: string; onClose: () => void }) {
  const units = useUnits(project, environment, { flag, at });
  return (
    <Dialog open onClose={onClose} title={title}>
      <Problem error={units.error} />
      <p className="text-soft">Of the recently seen units, at most 200:</p>
      <ul className="flex flex-col gap-0.5" data-testid="who">
        {units.data?.items.map((u) => (
          <li key={u.unit} className="truncate">
            <Link className="font-mono text-[13px] underline" to={`/p/${project}/${environment}/population/unit?unit=${encodeURIComponent(u.unit)}`}>
              {u.unit}
            </Link>{" "}
            <span className="text-xs text-soft">{JSON.stringify(u.attributes)}</span>
          </li>
        ))}
        {units.data?.items.length === 0 && <li>nobody who was seen</li>}
      </ul>
    </Dialog>
  );
}
