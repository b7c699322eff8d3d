import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Button, inputStyle, Select } from "../../ui/controls";
import { Variant } from "../../ui/variant";

type Document = Schemas["Document"];

/** Values edits what is this environment's own beside the rules: the values of the variants,
    the resting variant, and what the flag needs. */
export function Values({ doc, names, flags, onChange }: { doc: Document; names: string[]; flags: Schemas["BoardFlag"][]; onChange: (d: Document) => void }) {
  const needs = doc.needs ?? [];
  const others = flags.filter((f) => f.key !== doc.key);
  const [needed, setNeeded] = useState("");
  const add = others.find((f) => f.key === needed);
  return (
    <div className="flex flex-col gap-3 border-b border-line py-3">
      {names.map((n) => (
        <ValueField key={n} names={names} name={n} type={doc.type} value={doc.variants[n]} onChange={(v) => onChange({ ...doc, variants: { ...doc.variants, [n]: v } })} />
      ))}
      <label className="flex items-center gap-2">
        <span className="w-28 text-soft">resting</span>
        <Select aria-label="resting variant" value={doc.resting} onChange={(e) => onChange({ ...doc, resting: e.target.value })} options={names} />
      </label>
      {needs.map((n) => (
        <div key={n.flag + n.variant} className="flex items-center gap-2">
          <span className="w-28 text-soft">needs</span> <span className="font-mono text-[13px]">{n.flag}</span> to give {n.variant}
          <Button tone="bare" onClick={() => onChange({ ...doc, needs: needs.filter((o) => o !== n) })} aria-label={`no longer need ${n.flag}`}>
            remove
          </Button>
        </div>
      ))}
      <div className="flex flex-wrap items-center gap-2">
        <span className="w-28 text-soft">needs</span>
        <Select aria-label="a flag that it needs" value={needed} onChange={(e) => setNeeded(e.target.value)} options={[{ value: "", label: "no other flag" }, ...others.map((f) => f.key)]} />
        {add?.variants.map((v) => (
          <Button key={v.name} onClick={() => { onChange({ ...doc, needs: [...needs, { flag: add.key, variant: v.name }] }); setNeeded(""); }}>
            to give {v.name}
          </Button>
        ))}
      </div>
    </div>
  );
}

function ValueField({ names, name, type, value, onChange }: { names: string[]; name: string; type: string; value: unknown; onChange: (v: unknown) => void }) {
  const [typed, setTyped] = useState(() => (type === "string" ? String(value) : JSON.stringify(value)));
  const [wrong, setWrong] = useState("");
  return (
    <label className="flex flex-wrap items-center gap-2">
      <span className="w-28">
        <Variant names={names} name={name} />
      </span>
      <input
        aria-label={`value of ${name}`}
        className={`${inputStyle} min-w-0 flex-1 font-mono text-[13px]`}
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          if (type === "string") return onChange(e.target.value);
          try {
            onChange(JSON.parse(e.target.value));
            setWrong("");
          } catch {
            setWrong("is no JSON yet, so it is not taken");
          }
        }}
      />
      {wrong && <span className="text-xs text-alarm">{wrong}</span>}
    </label>
  );
}
