import type { Dispatch, SetStateAction } from "react";

// What was typed is taken out of a field once it is saved, and only that: an answer may come
// when somebody has gone on typing, and then the field stays as it is.
export function takeOut(set: Dispatch<SetStateAction<string>>, sent: string) {
  set((now) => (now === sent ? "" : now));
}

// A form closes once it is done, unless another one was opened meanwhile.
export function closed<K>(form: K) {
  return (now: K | undefined) => (now === form ? undefined : now);
}
