import { useDeferredValue, useState } from "react";
import type { Schemas } from "../api/client";
import { useFlags } from "../api/queries";
import { Combobox } from "../ui/combobox";

interface FlagPickerProps {
  project: string;
  label: string;
  value: string;
  but?: string; // a flag that is not offered
  none?: string; // what no flag is called; without it one has to be picked
  onPick: (key: string, flag: Schemas["FlagName"] | undefined) => void;
  className?: string;
}

/** FlagPicker picks a flag; the service finds it. */
export function FlagPicker({ project, label, value, but, none, onPick, className = "w-64" }: FlagPickerProps) {
  const [typed, setTyped] = useState("");
  const found = useFlags(project, asText(useDeferredValue(typed)));
  const flags = (found.data?.flags ?? []).filter((f) => f.key !== but);
  const options = flags.map((f) => ({ value: f.key, about: f.title }));
  const all = none !== undefined && typed === "" ? [{ value: "", label: none }, ...options] : options;
  const shown = value !== "" && !all.some((o) => o.value === value) ? [...all, { value, label: value }] : all;
  return <Combobox label={label} className={className} value={value} options={shown} find={setTyped} onChange={(key) => onPick(key, flags.find((f) => f.key === key))} empty="no flag has this in its name" />;
}

/** asText has every typed word be looked for as it is, also where it looks like a word of the field. */
function asText(typed: string): string {
  return typed
    .replaceAll('"', "")
    .split(/\s+/)
    .filter((w) => w !== "")
    .map((w) => `"${w.replaceAll(":", " ")}"`)
    .join(" ");
}
