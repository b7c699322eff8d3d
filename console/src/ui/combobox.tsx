import { Command } from "cmdk";
import { Popover } from "radix-ui";
import { useId, useState, type ReactNode } from "react";

export interface Option {
  value: string;
  label?: string;
  about?: string;
}

interface ComboboxProps {
  label: string;
  value: string;
  options: Option[];
  /** find is told what is typed, where the service looks for options; without it they are looked for here. */
  find?: (text: string) => void;
  onChange: (value: string) => void;
  /** free lets what is typed be taken though it is no option. */
  free?: boolean;
  empty?: ReactNode; // said where nothing is found
  className?: string;
}

/** How many options are shown at a time: of more, one types. */
const most = 50;

/** Combobox picks one of many by typing. */
export function Combobox({ label, value, options, find, onChange, free = false, empty, className = "" }: ComboboxProps) {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  const list = useId();
  const has = (o: Option) => `${o.value} ${o.label ?? ""}`.toLowerCase().includes(typed.trim().toLowerCase());
  const found = (find ? options : options.filter(has)).slice(0, most);
  const take = (v: string) => {
    onChange(v);
    setOpen(false);
    setTyped("");
    find?.("");
  };
  const own = free && typed.trim() !== "" && !found.some((o) => o.value === typed.trim());
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger
        role="combobox"
        aria-label={label}
        aria-expanded={open}
        aria-controls={list}
        className={`inline-flex min-h-8 max-w-full cursor-pointer items-center justify-between gap-2 rounded border border-edge bg-sheet px-2 py-1 text-left hover:border-ink ${className}`}
      >
        <span className="truncate">{options.find((o) => o.value === value)?.label ?? (value || "choose")}</span>
        <span aria-hidden="true">▾</span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content aria-label={label} align="start" sideOffset={4} className="z-40 w-[min(24rem,94vw)] rounded border border-edge bg-sheet text-ink shadow-lg">
          <Command shouldFilter={false} label={`find: ${label}`}>
            <Command.Input
              autoFocus
              aria-label={`find: ${label}`}
              placeholder="type to find"
              className="w-full rounded-t border-b border-line bg-sheet px-3 py-2 outline-none"
              value={typed}
              onValueChange={(t) => {
                setTyped(t);
                find?.(t);
              }}
            />
            <Command.List id={list} className="max-h-72 overflow-auto p-1">
              {found.length === 0 && !own && <div className="px-2 py-2 text-soft">{empty ?? "nothing has this name"}</div>}
              {own && (
                <Command.Item value={`typed ${typed}`} onSelect={() => take(typed.trim())} className="cursor-pointer rounded px-2 py-1 data-[selected=true]:bg-well">
                  {typed.trim()}
                </Command.Item>
              )}
              {found.map((o) => (
                <Command.Item key={o.value} value={o.value} onSelect={() => take(o.value)} className="cursor-pointer rounded px-2 py-1 data-[selected=true]:bg-well">
                  {o.label ?? o.value}
                  {o.about && <span className="block text-xs text-soft">{o.about}</span>}
                </Command.Item>
              ))}
            </Command.List>
          </Command>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
