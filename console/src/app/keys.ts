import { useEffect } from "react";

export interface Key {
  key: string; // as a keyboard event names it
  shown: string;
  does: string;
  act: () => void;
}

const typing = (t: EventTarget | null) => t instanceof HTMLElement && (t.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(t.tagName));

/** useKeys has keys act while nobody types. */
export function useKeys(keys: Key[]) {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.defaultPrevented || e.ctrlKey || e.metaKey || e.altKey || typing(e.target) || document.querySelector("[role=dialog], [role=menu]")) return;
      const key = keys.find((k) => k.key === e.key);
      if (!key) return;
      e.preventDefault();
      key.act();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [keys]);
}

/** find puts the cursor into the page's field for finding, if it has one. */
export function find() {
  document.querySelector<HTMLInputElement>("main input[type=search]")?.focus();
}
