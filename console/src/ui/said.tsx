import { useSyncExternalStore } from "react";

/* What was done is said aloud, and shown for a moment. */

let saying = "";
let timer: ReturnType<typeof setTimeout> | undefined;
const listeners = new Set<() => void>();

/** How long what was done is shown, in milliseconds. */
const shownFor = 6_000;

function become(text: string) {
  saying = text;
  for (const l of listeners) l();
}

/** say tells everybody, also who doesn't look, that something was done. */
export function say(text: string) {
  clearTimeout(timer);
  become(text);
  timer = setTimeout(() => become(""), shownFor);
}

const listen = (l: () => void) => {
  listeners.add(l);
  return () => listeners.delete(l);
};

/** Sayings is where it is said; it stands once, around all pages. */
export function Sayings() {
  const text = useSyncExternalStore(listen, () => saying);
  return (
    <div role="status" aria-label="done" className="pointer-events-none fixed inset-x-0 bottom-4 z-40 flex justify-center px-4">
      {text && <p className="rounded bg-ink px-4 py-2 text-page shadow-lg">{text}</p>}
    </div>
  );
}
