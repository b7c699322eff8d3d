import { Combobox, type Option } from "./combobox";
import { Select } from "./controls";

/** How many options a list may have that one looks through; in longer ones one types. */
const most = 20;

/** Pick picks one of some options: from a list, or by typing where there are many. */
export function Pick({ label, value, options, onChange, className = "" }: { label: string; value: string; options: Option[]; onChange: (v: string) => void; className?: string }) {
  if (options.length > most) return <Combobox label={label} value={value} options={options} onChange={onChange} className={className || "w-56"} />;
  return <Select aria-label={label} className={className} value={value} onChange={(e) => onChange(e.target.value)} options={options.map((o) => ({ value: o.value, label: o.label ?? o.value }))} />;
}
