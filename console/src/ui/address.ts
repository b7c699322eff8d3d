import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";

/** How long after the last key the address says what was typed, in milliseconds. */
const settled = 300;

/** useAddressField is a text that the address has too, so that it can be linked and gone back to. What is
    typed stands at once: the address follows when one pauses. */
export function useAddressField(name: string): [string, (text: string) => void] {
  const [query, setQuery] = useSearchParams();
  const there = query.get(name) ?? "";
  const [text, setText] = useState(there);
  const written = useRef(there); // what the address is known to say, or is about to
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => {
    if (there === written.current) return;
    written.current = there; // somebody went back, or followed a link
    setText(there);
  }, [there]);
  useEffect(() => () => clearTimeout(timer.current), []);
  const type = (now: string) => {
    setText(now);
    clearTimeout(timer.current);
    timer.current = setTimeout(() => {
      written.current = now;
      setQuery(
        (old) => {
          const next = new URLSearchParams(old);
          if (now) next.set(name, now);
          else next.delete(name);
          return next;
        },
        { replace: true, preventScrollReset: true },
      );
    }, settled);
  };
  return [text, type];
}
