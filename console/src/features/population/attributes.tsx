import { useState } from "react";
import { useParams } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useChange, useMe } from "../../api/queries";
import { useAttributes } from "../../api/targeting";
import { Button, inputStyle, Problem, Select, Sheet, TextField, Time, Waiting } from "../../ui/controls";
import { Place } from "./place";
import { closed } from "../../ui/typed";

const types = ["string", "number", "boolean", "version", "time", "address", "list"];

/** AttributesPage shows attributes as they are declared and as they are really sent. */
export default function AttributesPage() {
  const { project = "", environment = "" } = useParams();
  const all = useAttributes(project, environment);
  const me = useMe();
  const developer = me.data?.roles[project]?.some((r) => r === "developer" || r === "keeper") ?? false;
  const [open, setOpen] = useState<string>();
  return (
    <Place>
      <Problem error={all.error} />
      {all.isPending && <Waiting what="attributes" />}
      {all.data && (
        <Sheet title="Attributes" aside={<span className="text-xs text-soft">{all.data.contexts.toLocaleString()} contexts were looked at in the last 7 days</span>}>
          <div className="overflow-x-auto">
            <table className="w-full border-collapse text-left">
              <thead>
                <tr className="border-b border-line text-[13px]">
                  <th className="py-1 pr-3 font-medium">attribute</th>
                  <th className="pr-3 font-medium">declared</th>
                  <th className="pr-3 font-medium">arrives as</th>
                  <th className="pr-3 text-right font-medium">present</th>
                  <th className="pr-3 font-medium">frequent values</th>
                  <th className="pr-3 font-medium">last seen</th>
                  <th />
                </tr>
              </thead>
              <tbody>
                {all.data.items.map((a) => (
                  <Row key={a.name} project={project} attribute={a} developer={developer} open={open === a.name} onOpen={() => setOpen(open === a.name ? undefined : a.name)} onDone={() => setOpen(closed(a.name))} />
                ))}
              </tbody>
            </table>
          </div>
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
            <Button tone="bare" aria-label={`${a.declared ? "edit" : "declare"} ${a.name}`} onClick={onOpen}>
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

function Declare({ project, name: known, attribute, suggested, onDone }: { project: string; name: string; attribute: Schemas["Attribute"] | undefined; suggested: string; onDone: () => void }) {
  const [name, setName] = useState(known);
  const [type, setType] = useState<string>(attribute?.type ?? (types.includes(suggested) ? suggested : "string"));
  const [description, setDescription] = useState(attribute?.description ?? "");
  const [one, setOne] = useState(attribute?.one ?? "");
  const [many, setMany] = useState(attribute?.many ?? "");
  const [example, setExample] = useState(attribute?.example ?? "");
  const [personal, setPersonal] = useState(attribute?.personal ?? false);
  const [derive, setDerive] = useState<string>(attribute?.derive ?? "");
  const [serverOnly, setServerOnly] = useState(attribute?.serverOnly ?? false);
  const [loose, setLoose] = useState(attribute?.loose ?? false);
  const path = { project, attribute: name };
  const save = useChange(project, () =>
    must(
      api.PUT("/api/v1/projects/{project}/attributes/{attribute}", {
        params: { path, header: { "If-Match": attribute ? String(attribute.version) : "" } },
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
        save.mutate(undefined, { onSuccess: onDone });
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        {known === "" && <TextField label="Name" className="font-mono" required value={name} onChange={(e) => setName(e.target.value)} />}
        <label className="flex flex-col gap-1">
          <span className="font-medium">Type</span>
          <Select aria-label="type of the attribute" value={type} onChange={(e) => setType(e.target.value)} options={types} />
        </label>
        <TextField label="What it says" className="w-64" value={description} onChange={(e) => setDescription(e.target.value)} />
        <TextField label="Example" value={example} onChange={(e) => setExample(e.target.value)} />
        <TextField label="One is called" className="w-32" placeholder="site" value={one} onChange={(e) => setOne(e.target.value)} />
        <TextField label="Many are called" className="w-32" placeholder="sites" value={many} onChange={(e) => setMany(e.target.value)} />
      </div>
      <div className="flex flex-wrap items-center gap-4">
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={personal} onChange={(e) => setPersonal(e.target.checked)} /> personal: it never leaves a client
        </label>
        {personal && (
          <Select aria-label="what may leave" className={inputStyle} value={derive} onChange={(e) => setDerive(e.target.value)} options={[{ value: "", label: "nothing of it" }, { value: "presence", label: "but that it is there" }, { value: "domain", label: "but its domain" }]} />
        )}
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={serverOnly} onChange={(e) => setServerOnly(e.target.checked)} /> server-only: ignored from browsers
        </label>
        {type === "version" && (
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={loose} onChange={(e) => setLoose(e.target.checked)} /> 4.2 and v4.2.0 are sent too
          </label>
        )}
      </div>
      <Problem error={save.error ?? remove.error} />
      <div className="flex gap-2">
        <Button tone="lever" type="submit" disabled={save.isPending}>
          {attribute ? "Save" : "Declare it"}
        </Button>
        {attribute && (
          <Button disabled={remove.isPending} onClick={() => remove.mutate(undefined, { onSuccess: onDone })}>
            Take it out of the catalogue
          </Button>
        )}
      </div>
    </form>
  );
}
