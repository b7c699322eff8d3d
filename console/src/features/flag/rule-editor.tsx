import type { ReactNode } from "react";
import { sayWhom, type DraftRule } from "../../draft/flag";
import { ConditionEditor } from "../../ui/condition";
import { Button, inputStyle } from "../../ui/controls";
import { GivesEditor } from "./gives";

interface RuleEditorProps {
  rule: DraftRule;
  names: string[];
  resting: string;
  newVariant: ReactNode;
  onChange: (r: DraftRule, field: string) => void;
  onRemove: () => void;
}

/** RuleEditor edits one rule, on its own branch. */
export function RuleEditor({ rule, names, resting, newVariant, onChange, onRemove }: RuleEditorProps) {
  const field = (name: string) => (name === "" ? "" : `${rule.id} ${name}`);
  const all = !rule.saysNobody && !rule.when;
  return (
    <div className="mt-2 flex flex-col gap-4 rounded border border-edge bg-sheet p-4">
      <label className="flex flex-wrap items-center gap-2">
        <span className="w-20 text-soft">name</span>
        <input aria-label="name of the rule" autoFocus={rule.saysNobody ?? false} className={`${inputStyle} w-full max-w-sm`} value={rule.name} onChange={(e) => onChange({ ...rule, name: e.target.value }, field("name"))} />
      </label>
      <div className="flex flex-col gap-2">
        <div className="flex flex-wrap items-center gap-2">
          <span className="w-20 text-soft">takes</span>
          {all ? (
            <>
              all units that come this far
              <Button tone="bare" className="underline" onClick={() => onChange({ ...rule, saysNobody: true }, "")}>
                only some
              </Button>
            </>
          ) : (
            rule.saysNobody && (
              <>
                <span className="font-medium text-alarm">nobody yet: say whom, by a comparison or a segment, or</span>
                <Button onClick={() => onChange(sayWhom(rule, undefined), "")}>All units</Button>
              </>
            )
          )}
        </div>
        {!all && (
          <ConditionEditor
            nobody
            value={rule.when}
            onChange={(when) => {
              if (when) return onChange(sayWhom(rule, when), field("when"));
              // What has no condition left takes nobody, until somebody says that it takes all.
              const { when: _, ...rest } = rule;
              onChange({ ...rest, saysNobody: true }, "");
            }}
          />
        )}
      </div>
      <div className="flex flex-wrap items-start gap-2">
        <span className="w-20 pt-2 text-soft">gives</span>
        <div className="min-w-0 flex-1 basis-80">
          <GivesEditor end={false} value={rule.gives} names={names} resting={resting} onChange={(gives, name) => onChange({ ...rule, gives }, field(name))} />
        </div>
      </div>
      {newVariant}
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => onChange({ ...rule, parked: !rule.parked }, "")}>{rule.parked ? "Take into use again" : "Park"}</Button>
        <Button tone="alarm" onClick={onRemove}>
          Remove the rule
        </Button>
      </div>
    </div>
  );
}
