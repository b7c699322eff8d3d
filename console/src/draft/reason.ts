import { useState } from "react";

/* The reason that somebody gave last for a thing is offered again, where the same is done elsewhere. */

const at = (of: string) => `greenlever reason ${of}`;

function read(of: string): string {
  try {
    return sessionStorage.getItem(at(of)) ?? "";
  } catch {
    return "";
  }
}

/** useReason is the reason for a change of a thing, remembered over environments. */
export function useReason(of: string): [string, (r: string) => void] {
  const [reason, setReason] = useState(() => read(of));
  const set = (r: string) => {
    setReason(r);
    try {
      sessionStorage.setItem(at(of), r);
    } catch {
      return; // the browser forbids it: it is not remembered
    }
  };
  return [reason, set];
}
