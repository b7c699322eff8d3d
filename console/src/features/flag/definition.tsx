import { useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useEditDefinition } from "../../api/queries";
import { useDraft } from "../../draft/use";
import { Button, Problem, Sheet, TextField, wrongIn } from "../../ui/controls";
import { DraftTools } from "../../ui/draft-tools";
import { Variant } from "../../ui/variant";
import { Word } from "../../ui/word";

type Definition = Schemas["Definition"];

/** What can be edited of a definition. Lists are typed with commas. */
interface Fields {
  title: string;
  description: string;
  goneBy: string;
  owners: string;
  tags: string;
  loses: string;
  visible: boolean;
}

const fieldsOf = (d: Definition): Fields => ({ title: d.title, description: d.description, goneBy: d.goneBy, owners: d.owners.join(", "), tags: d.tags.join(", "), loses: d.loses ?? "", visible: d.visible });

export const listed = (text: string): string[] => text.split(",").map((s) => s.trim()).filter((s) => s !== "");

const labels: Record<keyof Fields, string> = { title: "Title", description: "What it decides", goneBy: "Gone by", owners: "Owners", tags: "Tags", loses: "What users lose while it rests", visible: "visible to browsers" };

/** DefinitionSheet shows what the project owns of the flag, and edits it. */
export function DefinitionSheet({ project, definition }: { project: string; definition: Definition }) {
  const [open, setOpen] = useState(false);
  const names = definition.variants.map((v) => v.name);
  const base = useMemo(() => fieldsOf(definition), [definition]);
  const editing = useDraft<Fields>({ name: `${project} definition ${definition.key}`, to: window.location.pathname, what: `definition of ${definition.key}`, base, version: definition.version });
  const { may, takes } = useMay(project, "define");
  const shown = may && (open || editing.edited);
  return (
    <Sheet
      title={<Word of="definition">Definition</Word>}
      aside={
        may ? (
          !editing.edited && (
            <Button tone="bare" className="underline" aria-label={shown ? "close the definition" : "edit the definition"} onClick={() => setOpen(!open)}>
              {shown ? "close" : "edit"}
            </Button>
          )
        ) : (
          <span className="text-xs text-soft">{takes}</span>
        )
      }
    >
      {shown ? (
        <DefinitionEditor project={project} definition={definition} editing={editing} onDone={() => setOpen(false)} />
      ) : (
        <dl className="grid grid-cols-[auto_1fr] gap-x-3 gap-y-1">
          <dt className="text-soft">for</dt>
          <dd>{definition.description || "not said"}</dd>
          <dt className="text-soft">type</dt>
          <dd>{definition.type}</dd>
          <dt className="text-soft">gone by</dt>
          <dd>{definition.goneBy}</dd>
          <dt className="text-soft">owners</dt>
          <dd>{definition.owners.join(", ") || "nobody yet"}</dd>
          {definition.tags.length > 0 && (
            <>
              <dt className="text-soft">tags</dt>
              <dd>{definition.tags.join(", ")}</dd>
            </>
          )}
          <dt className="text-soft">browsers</dt>
          <dd>{definition.visible ? "visible" : "not visible"}</dd>
          {definition.loses && (
            <>
              <dt className="text-soft">at rest</dt>
              <dd>users lose: {definition.loses}</dd>
            </>
          )}
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
    </Sheet>
  );
}

function DefinitionEditor({ project, definition, editing, onDone }: { project: string; definition: Definition; editing: ReturnType<typeof useDraft<Fields>>; onDone: () => void }) {
  const [reason, setReason] = useState("");
  const edit = useEditDefinition(project, definition.key);
  const now = editing.value ?? fieldsOf(definition);
  const wrong = wrongIn(edit.error);
  const set = (field: keyof Fields) => (value: string) => editing.edit({ ...now, [field]: value }, field);
  const text = (field: Exclude<keyof Fields, "visible">, hint?: string) => <TextField label={labels[field]} hint={hint} value={now[field]} error={wrong(field)} onChange={(e) => set(field)(e.target.value)} />;
  const save = () => {
    const sent = now;
    const body: Schemas["DefinitionEdit"] = { title: now.title, description: now.description, goneBy: now.goneBy, owners: listed(now.owners), tags: listed(now.tags), loses: now.loses, visible: now.visible, reason };
    edit.mutate(
      { version: editing.draft?.version ?? definition.version, body },
      {
        onSuccess: (saved) => {
          editing.saved(sent, fieldsOf(saved), saved.version);
          onDone();
        },
      },
    );
  };
  return (
    <div className="flex flex-col gap-3">
      {text("title")}
      {text("description")}
      {text("goneBy", "a date, or stays")}
      {text("owners", "separated by commas")}
      {text("tags", "separated by commas")}
      {text("loses", "who stops it at night reads this")}
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={now.visible} onChange={(e) => editing.edit({ ...now, visible: e.target.checked })} /> visible to browsers, in all environments
      </label>
      {now.visible !== definition.visible && <TextField label="Why" hint="environments that ask first want it" value={reason} error={wrong("reason")} onChange={(e) => setReason(e.target.value)} />}
      <Problem error={edit.error} beside={["title", "description", "goneBy", "owners", "tags", "loses", "reason"]} />
      <DraftTools editing={editing} place={(path) => labels[path[0] as keyof Fields] ?? path.join(" ")} onDrop={onDone}>
        <Button tone="lever" disabled={edit.isPending || !editing.edited || (editing.draft?.meets.length ?? 0) > 0} onClick={save}>
          {edit.isPending ? "saving ..." : "Save the definition"}
        </Button>
      </DraftTools>
    </div>
  );
}
