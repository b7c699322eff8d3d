import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { DraftDocument } from "../../draft/flag";
import { FlagPicker } from "../../parts/flag-picker";
import { Button, inputStyle, Select } from "../../ui/controls";
import { Parsed } from "../../ui/parsed";
import { Variant } from "../../ui/variant";
import { Word } from "../../ui/word";

/** Values edits what is this environment's own beside the rules: the values of the variants,
    the resting variant, and what the flag needs. */
export function Values({ project, doc, names, onChange }: { project: string; doc: DraftDocument; names: string[]; onChange: (d: DraftDocument, field?: string) => void }) {
  const needs = doc.needs ?? [];
  const [needed, setNeeded] = useState<Schemas["FlagName"]>();
  return (
    <div className="flex flex-col gap-3 rounded border border-line p-3">
      {names.map((n) => (
        <ValueField key={n} names={names} name={n} type={doc.type} value={doc.variants[n]} onChange={(v) => onChange({ ...doc, variants: { ...doc.variants, [n]: v } }, `value of ${n}`)} />
      ))}
      <label className="flex items-center gap-2">
        <span className="w-28 text-soft">resting</span>
        <Select aria-label="resting variant" value={doc.resting} onChange={(e) => onChange({ ...doc, resting: e.target.value })} options={names} />
      </label>
      {needs.map((n) => (
        <div key={n.flag + n.variant} className="flex items-center gap-2">
          <span className="w-28 text-soft">needs</span> <span className="font-mono text-[13px]">{n.flag}</span> to give {n.variant}
          <Button tone="bare" className="underline" onClick={() => onChange({ ...doc, needs: needs.filter((o) => o !== n) })} aria-label={`no longer need ${n.flag}`}>
            remove
          </Button>
        </div>
      ))}
      <div className="flex flex-wrap items-center gap-2">
        <span className="w-28 text-soft">
          <Word of="needs" />
        </span>
        <FlagPicker project={project} label="a flag that it needs" value={needed?.key ?? ""} but={doc.key} none="no other flag" onPick={(_, f) => setNeeded(f)} />
        {needed?.variants.map((v) => (
          <Button
            key={v}
            onClick={() => {
              onChange({ ...doc, needs: [...needs, { flag: needed.key, variant: v }] });
              setNeeded(undefined);
            }}
          >
            to give {v}
          </Button>
        ))}
      </div>
    </div>
  );
}

function ValueField({ names, name, type, value, onChange }: { names: string[]; name: string; type: string; value: unknown; onChange: (v: unknown) => void }) {
  return (
    <label className="flex flex-wrap items-center gap-2">
      <span className="w-28">
        <Variant names={names} name={name} />
      </span>
      {type === "string" ? (
        <input aria-label={`value of ${name}`} className={`${inputStyle} min-w-0 flex-1 font-mono text-[13px]`} value={String(value)} onChange={(e) => onChange(e.target.value)} />
      ) : (
        <Parsed label={`value of ${name}`} className="min-w-0 flex-1 font-mono text-[13px]" value={{ of: value }} format={(v) => JSON.stringify(v.of)} parse={asJSON} wrong="is no JSON yet, so it is not taken" onChange={(v) => onChange(v.of)} />
      )}
    </label>
  );
}

function asJSON(text: string): { of: unknown } | undefined {
  try {
    return { of: JSON.parse(text) as unknown };
  } catch {
    return undefined;
  }
}
