import { useSyncExternalStore } from "react";

const query = window.matchMedia("(max-width: 640px)");

const listen = (l: () => void) => {
  query.addEventListener("change", l);
  return () => query.removeEventListener("change", l);
};

/** useNarrow tells whether the page is as narrow as a phone. */
export const useNarrow = (): boolean => useSyncExternalStore(listen, () => query.matches);
