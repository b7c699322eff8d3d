import { useSyncExternalStore } from "react";
import { clock } from "../clock";

/** How often what says how long ago something was is said anew, in milliseconds. */
const every = 10_000;

let now = clock();
const listeners = new Set<() => void>();
let timer: ReturnType<typeof setInterval> | undefined;

function tick() {
  now = clock();
  for (const l of listeners) l();
}

function listen(l: () => void) {
  if (listeners.size === 0) {
    now = clock();
    timer = setInterval(tick, every);
  }
  listeners.add(l);
  return () => {
    listeners.delete(l);
    if (listeners.size === 0) clearInterval(timer);
  };
}

/** useNow is the present, in milliseconds since 1970, good to ten seconds: one clock for the whole page. */
export const useNow = (): number => useSyncExternalStore(listen, () => now);
