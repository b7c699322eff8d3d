import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

const item = "flex cursor-pointer items-center gap-2 rounded px-2 py-1 outline-none data-[highlighted]:bg-well";

/** Menu opens a list of what can be done or chosen. */
export function Menu({ label, children }: { label: ReactNode; children: ReactNode }) {
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className="inline-flex min-h-8 cursor-pointer items-center gap-1.5 rounded border border-edge bg-sheet px-3 py-1 whitespace-nowrap hover:border-ink">
        {label} <span aria-hidden="true">▾</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal container={document.querySelector("main")}>
        <DropdownMenu.Content align="end" sideOffset={4} className="z-40 max-h-[70vh] min-w-44 overflow-auto rounded border border-edge bg-sheet p-1 text-ink shadow-lg">
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** Choice is one of several in a menu; the menu stays open, so that more can be chosen. */
export function Choice({ chosen, onChoose, children }: { chosen: boolean; onChoose: (on: boolean) => void; children: ReactNode }) {
  return (
    <DropdownMenu.CheckboxItem className={item} checked={chosen} onCheckedChange={onChoose} onSelect={(e) => e.preventDefault()}>
      <span aria-hidden="true" className="w-4">
        {chosen ? "✓" : ""}
      </span>
      {children}
    </DropdownMenu.CheckboxItem>
  );
}

/** Act is something that a menu does. */
export function Act({ onAct, children }: { onAct: () => void; children: ReactNode }) {
  return (
    <DropdownMenu.Item className={item} onSelect={onAct}>
      {children}
    </DropdownMenu.Item>
  );
}

/** Part is a heading in a menu. */
export function Part({ children }: { children: ReactNode }) {
  return <DropdownMenu.Label className="px-2 pt-2 pb-1 text-xs text-soft">{children}</DropdownMenu.Label>;
}
