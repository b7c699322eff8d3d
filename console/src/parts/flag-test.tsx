import { useParams } from "react-router";
import { useNames } from "../api/queries";
import type { FlagTestProps } from "../ui/condition";
import { FlagPicker } from "./flag-picker";

/** FlagTest edits a comparison of what another flag gives. */
export function FlagTest({ leaf, onChange }: FlagTestProps) {
  const { project = "", flag = "" } = useParams();
  const variants = useNames(project, leaf.flag ? [leaf.flag] : [])(leaf.flag);
  return (
    <>
      <span>flag</span>
      <FlagPicker project={project} label="other flag" value={leaf.flag ?? ""} but={flag} onPick={(key, f) => onChange({ ...leaf, flag: key, text: f?.variants.slice(0, 1) ?? [] })} />
      <span>gives</span>
      {variants.map((v) => (
        <label key={v} className="flex items-center gap-1">
          <input type="checkbox" checked={leaf.text?.includes(v) ?? false} onChange={(e) => onChange({ ...leaf, text: e.target.checked ? [...(leaf.text ?? []), v] : (leaf.text ?? []).filter((o) => o !== v) })} /> {v}
        </label>
      ))}
    </>
  );
}
