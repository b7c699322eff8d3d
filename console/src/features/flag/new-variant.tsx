import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useEditDefinition } from "../../api/queries";
import { Button, inputStyle, Problem } from "../../ui/controls";
import { takeOut } from "../../ui/typed";

/** NewVariant adds a variant from inside a rule; it is added in all environments at once. */
export function NewVariant({ project, definition }: { project: string; definition: Schemas["Definition"] }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const [reason, setReason] = useState("");
  const edit = useEditDefinition(project, definition.key);
  if (!open) {
    return (
      <Button tone="bare" className="self-start underline" onClick={() => setOpen(true)}>
        new variant
      </Button>
    );
  }
  const parsed = parse(definition.type, value);
  return (
    <div className="flex flex-wrap items-center gap-2 rounded border border-line bg-page p-2">
      <input aria-label="name of the variant" className={`${inputStyle} w-36`} placeholder="name" value={name} onChange={(e) => setName(e.target.value)} />
      <input aria-label="value of the variant" className={`${inputStyle} w-44 font-mono text-[13px]`} placeholder={`its value, a ${definition.type}`} value={value} onChange={(e) => setValue(e.target.value)} />
      <input aria-label="why the variant" className={`${inputStyle} min-w-0 flex-1`} placeholder="why? (it is added in all environments)" value={reason} onChange={(e) => setReason(e.target.value)} />
      <Button
        disabled={name === "" || parsed === undefined || edit.isPending}
        onClick={() =>
          edit.mutate(
            { version: definition.version, body: { addVariants: [{ name, value: parsed }], reason } as Schemas["DefinitionEdit"] },
            {
              onSuccess: () => {
                setOpen(false);
                takeOut(setName, name);
                takeOut(setValue, value);
              },
            },
          )
        }
      >
        Add the variant
      </Button>
      <Button tone="bare" onClick={() => setOpen(false)}>
        close
      </Button>
      <Problem error={edit.error} />
    </div>
  );
}

function parse(type: string, text: string): unknown {
  if (type === "string") return text;
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}
