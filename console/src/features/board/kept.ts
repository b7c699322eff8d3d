import { useState } from "react";

/* How somebody likes their Board, which stays in this browser. */

function read<T>(key: string, otherwise: T): T {
  try {
    return (JSON.parse(localStorage.getItem(key) ?? "null") as T | null) ?? otherwise;
  } catch {
    return otherwise;
  }
}

function useStored<T>(key: string, otherwise: T): [T, (v: T) => void] {
  const [value, setValue] = useState(() => read(key, otherwise));
  return [
    value,
    (v: T) => {
      setValue(v);
      try {
        localStorage.setItem(key, JSON.stringify(v));
      } catch {
        return; // the browser forbids it: it holds for this page
      }
    },
  ];
}

/** usePins are the flags that somebody keeps on top. */
export function usePins(project: string): [string[], (key: string) => void] {
  const [pins, setPins] = useStored<string[]>(`greenlever pins ${project}`, []);
  return [pins, (key) => setPins(pins.includes(key) ? pins.filter((k) => k !== key) : [...pins, key])];
}

/** useTight tells whether rows are low. */
export const useTight = () => useStored("greenlever tight", false);

/** useSearches are the words that somebody keeps to find flags by. */
export function useSearches(project: string): [string[], (words: string) => void] {
  const [all, setAll] = useStored<string[]>(`greenlever searches ${project}`, []);
  return [all, (words) => words !== "" && setAll(all.includes(words) ? all.filter((w) => w !== words) : [...all, words])];
}
