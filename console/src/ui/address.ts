import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";

/** How long after the last key the address says what was typed, in milliseconds. */
const settled = 300;

/** setIn gives a query with another value of one name; an empty one is left out. */
function setIn(query: URLSearchParams, name: string, value: string): URLSearchParams {
  const next = new URLSearchParams(query);
  if (value) next.set(name, value);
  else next.delete(name);
  return next;
}

/** useAddressChoices are what is chosen on a page, as the address says it: so that it can be linked and gone
    back to. */
export function useAddressChoices(): [URLSearchParams, (name: string, value: string) => void] {
  const [query, setQuery] = useSearchParams();
  return [query, (name, value) => setQuery((now) => setIn(now, name, value), { preventScrollReset: true })];
}

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
      setQuery((old) => setIn(old, name, now), { replace: true, preventScrollReset: true });
    }, settled);
  };
  return [text, type];
}
