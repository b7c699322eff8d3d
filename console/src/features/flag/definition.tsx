import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useEditDefinition } from "../../api/queries";
import { Button, Problem, Sheet, TextField } from "../../ui/controls";
import { Variant } from "../../ui/variant";

/** DefinitionSheet shows what the project owns of the flag, and edits it. */
export function DefinitionSheet({ project, environment, definition }: { project: string; environment: string; definition: Schemas["Definition"] }) {
  const [editing, setEditing] = useState(false);
  const names = definition.variants.map((v) => v.name);
  return (
    <Sheet title="Definition" aside={<Button tone="bare" onClick={() => setEditing(!editing)}>{editing ? "close" : "edit"}</Button>}>
      {editing ? (
        <DefinitionEditor project={project} definition={definition} onDone={() => setEditing(false)} />
      ) : (
        <dl className="grid grid-cols-[auto_1fr] gap-x-3 gap-y-1">
          <dt className="text-soft">for</dt>
          <dd>{definition.description || "not said"}</dd>
          <dt className="text-soft">type</dt>
          <dd>{definition.type}</dd>
          <dt className="text-soft">purpose</dt>
          <dd>{definition.purpose}</dd>
          <dt className="text-soft">gone by</dt>
          <dd>{definition.goneBy}</dd>
          <dt className="text-soft">owners</dt>
          <dd>{definition.owners.join(", ") || "nobody yet"}</dd>
          <dt className="text-soft">browsers</dt>
          <dd>{definition.visible ? "visible" : "not visible"}</dd>
          <dt className="text-soft">variants</dt>
          <dd>
            {definition.variants.map((v) => (
              <div key={v.name}>
                <Variant names={names} name={v.name} /> <code className="text-xs break-all text-soft">{JSON.stringify(v.value)}</code>
              </div>
            ))}
          </dd>
        </dl>
      )}
      <div className="mt-3 flex gap-3">
        <Link className="underline" to={`/p/${project}/${environment}/why?flag=${definition.key}`}>
          Ask why
        </Link>
        <Link className="underline" to={`/p/${project}/history?flag=${definition.key}`}>
          Its history
        </Link>
      </div>
    </Sheet>
  );
}

function DefinitionEditor({ project, definition, onDone }: { project: string; definition: Schemas["Definition"]; onDone: () => void }) {
  const [title, setTitle] = useState(definition.title);
  const [description, setDescription] = useState(definition.description);
  const [goneBy, setGoneBy] = useState(definition.goneBy);
  const [owners, setOwners] = useState(definition.owners.join(", "));
  const [visible, setVisible] = useState(definition.visible);
  const [reason, setReason] = useState("");
  const edit = useEditDefinition(project, definition.key);
  return (
    <div className="flex flex-col gap-3">
      <TextField label="Title" value={title} onChange={(e) => setTitle(e.target.value)} />
      <TextField label="What it decides" value={description} onChange={(e) => setDescription(e.target.value)} />
      <TextField label="Gone by" hint="a date, or stays" value={goneBy} onChange={(e) => setGoneBy(e.target.value)} />
      <TextField label="Owners" hint="separated by commas" value={owners} onChange={(e) => setOwners(e.target.value)} />
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={visible} onChange={(e) => setVisible(e.target.checked)} /> visible to browsers, in all environments
      </label>
      {visible !== definition.visible && <TextField label="Why" hint="environments that ask first want it" value={reason} onChange={(e) => setReason(e.target.value)} />}
      <Problem error={edit.error} />
      <Button
        tone="lever"
        disabled={edit.isPending}
        onClick={() => {
          const list = owners.split(",").map((s) => s.trim()).filter((s) => s !== "");
          edit.mutate({ version: definition.version, body: { title, description, goneBy, owners: list, visible, reason } as Schemas["DefinitionEdit"] }, { onSuccess: onDone });
        }}
      >
        Save the definition
      </Button>
    </div>
  );
}
