import { useMemo, useState } from "react";
import { useParams } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useChange } from "../../api/queries";
import { useAttributes } from "../../api/targeting";
import { Button, inputStyle, Problem, Select, Sheet, TextField, Time, Waiting } from "../../ui/controls";
import { useDraft } from "../../draft/use";
import { DraftTools } from "../../ui/draft-tools";
import { closed } from "../../ui/typed";
import { Place } from "./place";

const types = ["string", "number", "boolean", "version", "time", "address", "list"];

/** AttributesPage shows attributes as they are declared and as they are really sent. */
export default function AttributesPage() {
  const { project = "", environment = "" } = useParams();
  const all = useAttributes(project, environment);
  const { may: developer, takes } = useMay(project, "define");
  const [open, setOpen] = useState<string>();
  return (
    <Place>
      <Problem error={all.error} />
      {all.isPending && <Waiting what="attributes" />}
      {all.data && (
        <Sheet title="Attributes" aside={<span className="text-xs text-soft">{all.data.contexts.toLocaleString()} contexts were looked at in the last 7 days</span>}>
          <div className="relative overflow-x-auto">
            <table className="w-full border-collapse text-left">
              <thead>
                <tr className="border-b border-line text-[13px]">
                  <th className="py-1 pr-3 font-medium">attribute</th>
                  <th className="pr-3 font-medium">declared</th>
                  <th className="pr-3 font-medium">arrives as</th>
                  <th className="pr-3 text-right font-medium">present</th>
                  <th className="pr-3 font-medium">frequent values</th>
                  <th className="pr-3 font-medium">last seen</th>
                  <th>
                    <span className="sr-only">what can be done</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {all.data.items.map((a) => (
                  <Row key={a.name} project={project} attribute={a} developer={developer} open={open === a.name} onOpen={() => setOpen(open === a.name ? undefined : a.name)} onDone={() => setOpen(closed(a.name))} />
                ))}
              </tbody>
            </table>
          </div>
          {!developer && <p className="mt-2 text-xs text-soft">To declare them: {takes}.</p>}
          {developer && (
            <div className="mt-3">
              {open === "" ? <Declare project={project} name="" attribute={undefined} suggested="string" onDone={() => setOpen(closed(""))} /> : <Button onClick={() => setOpen("")}>Declare an attribute</Button>}
            </div>
          )}
        </Sheet>
      )}
    </Place>
  );
}

function Row({ project, attribute: a, developer, open, onOpen, onDone }: { project: string; attribute: Schemas["AttributeView"]; developer: boolean; open: boolean; onOpen: () => void; onDone: () => void }) {
  const kinds = Object.entries(a.seen?.kinds ?? {}).toSorted(([, m], [, n]) => n - m);
  const values = a.seen?.values ?? [];
  return (
    <>
      <tr className="border-b border-line align-top last:border-0">
        <th scope="row" className="py-1.5 pr-3 font-normal">
          <div className="font-mono text-[13px]">{a.name}</div>
          <div className="text-xs text-soft">{a.declared?.description}</div>
          {a.odd && <div className="text-xs text-alarm">{a.odd}</div>}
        </th>
        <td className="pt-1.5 pr-3">
          {a.declared ? a.declared.type : <span className="text-soft">not declared</span>}
          {a.declared?.personal && <div className="text-xs text-soft">personal{a.declared.derive ? `, its ${a.declared.derive} leaves` : ", nothing leaves"}</div>}
          {a.declared?.serverOnly && <div className="text-xs text-soft">server-only</div>}
        </td>
        <td className="pt-1.5 pr-3 text-[13px]">{kinds.map(([k, n]) => `${k}${kinds.length > 1 ? ` ${n.toLocaleString()}` : ""}`).join(", ") || <span className="text-soft">never sent</span>}</td>
        <td className="pt-1.5 pr-3 text-right tabular-nums">{a.seen ? `${Math.round(a.share * 100)} %` : ""}</td>
        <td className="max-w-64 truncate pt-1.5 pr-3 text-[13px] text-soft">
          {a.declared?.personal
            ? "not kept"
            : values
                .slice(0, 5)
                .map((v) => v.value)
                .join(", ")}
        </td>
        <td className="pt-1.5 pr-3 text-[13px]">{a.seen && <Time ms={a.seen.last} />}</td>
        <td className="pt-1">
          {developer && (
            <Button tone="bare" aria-label={`${open ? "close" : a.declared ? "edit" : "declare"} ${a.name}`} onClick={onOpen}>
              {open ? "close" : a.declared ? "edit" : "declare"}
            </Button>
          )}
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={7} className="pb-3">
            <Declare project={project} name={a.name} attribute={a.declared} suggested={kinds[0]?.[0] ?? "string"} onDone={onDone} />
          </td>
        </tr>
      )}
    </>
  );
}

interface Fields {
  name: string;
  type: string;
  description: string;
  one: string;
  many: string;
  example: string;
  personal: boolean;
  derive: string;
  serverOnly: boolean;
  loose: boolean;
}

const labels: Record<keyof Fields, string> = { name: "Name", type: "Type", description: "What it says", one: "One is called", many: "Many are called", example: "Example", personal: "personal", derive: "what may leave", serverOnly: "server-only", loose: "looseness" };

function Declare({ project, name: known, attribute, suggested, onDone }: { project: string; name: string; attribute: Schemas["Attribute"] | undefined; suggested: string; onDone: () => void }) {
  const base = useMemo<Fields>(
    () => ({
      name: known,
      type: attribute?.type ?? (types.includes(suggested) ? suggested : "string"),
      description: attribute?.description ?? "",
      one: attribute?.one ?? "",
      many: attribute?.many ?? "",
      example: attribute?.example ?? "",
      personal: attribute?.personal ?? false,
      derive: attribute?.derive ?? "",
      serverOnly: attribute?.serverOnly ?? false,
      loose: attribute?.loose ?? false,
    }),
    [known, attribute, suggested],
  );
  const editing = useDraft<Fields>({ name: `${project} attribute ${known}`, to: window.location.pathname, what: known ? `attribute ${known}` : "a new attribute", base, version: attribute?.version ?? 0 });
  const now = editing.value ?? base;
  const { name, type, description, one, many, example, personal, derive, serverOnly, loose } = now;
  const set = <K extends keyof Fields>(field: K, value: Fields[K]) => editing.edit({ ...now, [field]: value }, field);
  const version = editing.draft?.version ?? attribute?.version ?? 0;
  const path = { project, attribute: name };
  const save = useChange(project, () =>
    must(
      api.PUT("/api/v1/projects/{project}/attributes/{attribute}", {
        params: { path, header: { "If-Match": attribute ? String(version) : "" } },
        body: { name, type, description, example, personal, serverOnly, loose: loose && type === "version", version: 0, ...(one && { one }), ...(many && { many }), ...(personal && derive !== "" && { derive }) } as Schemas["AttributeBody"],
      }),
    ),
  );
  const remove = useChange(project, () => must(api.DELETE("/api/v1/projects/{project}/attributes/{attribute}", { params: { path } })));
  return (
    <form
      className="flex flex-col gap-3 rounded border border-line p-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(undefined, {
          onSuccess: (saved) => {
            editing.saved(now, now, (saved as { version: number }).version);
            onDone();
          },
        });
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        {known === "" && <TextField label="Name" className="font-mono" required value={name} onChange={(e) => set("name", e.target.value)} />}
        <label className="flex flex-col gap-1">
          <span className="font-medium">Type</span>
          <Select aria-label="type of the attribute" value={type} onChange={(e) => set("type", e.target.value)} options={types} />
        </label>
        <TextField label="What it says" className="w-64" value={description} onChange={(e) => set("description", e.target.value)} />
        <TextField label="Example" value={example} onChange={(e) => set("example", e.target.value)} />
        <TextField label="One is called" className="w-32" placeholder="site" value={one} onChange={(e) => set("one", e.target.value)} />
        <TextField label="Many are called" className="w-32" placeholder="sites" value={many} onChange={(e) => set("many", e.target.value)} />
      </div>
      <div className="flex flex-wrap items-center gap-4">
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={personal} onChange={(e) => set("personal", e.target.checked)} /> personal: it never leaves a client
        </label>
        {personal && (
          <Select aria-label="what may leave" className={inputStyle} value={derive} onChange={(e) => set("derive", e.target.value)} options={[{ value: "", label: "nothing of it" }, { value: "presence", label: "but that it is there" }, { value: "domain", label: "but its domain" }]} />
        )}
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={serverOnly} onChange={(e) => set("serverOnly", e.target.checked)} /> server-only: ignored from browsers
        </label>
        {type === "version" && (
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={loose} onChange={(e) => set("loose", e.target.checked)} /> 4.2 and v4.2.0 are sent too
          </label>
        )}
      </div>
      <Problem error={save.error ?? remove.error} />
      <DraftTools editing={editing} place={(path) => labels[path[0] as keyof Fields] ?? path.join(" ")}>
        <Button tone="lever" type="submit" disabled={save.isPending || (editing.draft?.meets.length ?? 0) > 0}>
          {attribute ? "Save" : "Declare it"}
        </Button>
        {attribute && (
          <Button disabled={remove.isPending} onClick={() => remove.mutate(undefined, { onSuccess: onDone })}>
            Take it out of the catalogue
          </Button>
        )}
      </DraftTools>
    </form>
  );
}
