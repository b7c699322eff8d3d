/* Hooks on the client for browsers. They take the React of the application, so that the module can
   be imported from where it is served, or be bundled:

     import React from "react";
     import { start } from "https://flags.pinecrest.example/browser/v1/greenlever.js";
     import { withReact } from "https://flags.pinecrest.example/browser/v1/greenlever-react.js";
     export const { FlagsProvider, useBool, Where } = withReact(React);

     <FlagsProvider flags={start({ key: "glb_..." })}> ... </FlagsProvider>
     const photo = useBool("handover-photo", false);

   A part of a page that a flag opens, which is not drawn before there are answers:

     <Where flag="handover-photo"> ... </Where> */
import type { ReactNode } from "react";
import type { Answer, Flags } from "./greenlever";

type ReactModule = Pick<typeof import("react"), "createContext" | "createElement" | "Fragment" | "useCallback" | "useContext" | "useEffect" | "useRef" | "useSyncExternalStore">;

/** withReact makes the hooks and components with an application's React. */
export function withReact(React: ReactModule) {
  const Given = React.createContext<Flags | undefined>(undefined);

  function FlagsProvider({ flags, children }: { flags: Flags; children?: ReactNode }) {
    return React.createElement(Given.Provider, { value: flags }, children);
  }

  function useFlags(): Flags {
    const flags = React.useContext(Given);
    if (!flags) throw new Error("greenlever: there is no FlagsProvider around this component");
    return flags;
  }

  /** Looks while it draws, which React may do often, and counts what was drawn once. */
  function useAnswer(key: string): Answer {
    const flags = useFlags();
    const counted = React.useRef("");
    const answer = React.useSyncExternalStore(
      React.useCallback((changed: () => void) => flags.watch(changed), [flags]),
      () => still(flags.look(key)),
      () => still(flags.look(key)),
    );
    const drawn = `${key} ${answer.variant ?? ""} ${answer.source}`;
    React.useEffect(() => {
      if (counted.current === drawn) return;
      counted.current = drawn;
      flags.answer(key);
    }, [flags, key, drawn]);
    return answer;
  }

  function useTyped<T>(key: string, fits: (v: unknown) => boolean, fallback: T): T {
    const { value } = useAnswer(key);
    return fits(value) ? (value as T) : fallback;
  }

  const useBool = (key: string, fallback: boolean) => useTyped(key, (v) => typeof v === "boolean", fallback);
  const useString = (key: string, fallback: string) => useTyped(key, (v) => typeof v === "string", fallback);
  const useNumber = (key: string, fallback: number) => useTyped(key, (v) => typeof v === "number", fallback);
  const useObject = <T extends object>(key: string, fallback: T) => useTyped(key, (v) => typeof v === "object" && v !== null, fallback);

  function Where({ flag, is, children }: { flag: string; is?: string; children?: ReactNode }) {
    const a = useAnswer(flag);
    const open = is === undefined ? a.value === true : a.variant === is;
    return open ? React.createElement(React.Fragment, null, children) : null;
  }

  return { FlagsProvider, useFlags, useAnswer, useBool, useString, useNumber, useObject, Where };
}

/** An answer that is not there is made anew each time it is looked for: one for each of its kind. */
const absent = new Map<string, Answer>();
function still(a: Answer): Answer {
  if (a.variant !== undefined) return a;
  const id = `${a.key} ${a.errorCode} ${a.source}`;
  const had = absent.get(id);
  if (had) return had;
  absent.set(id, a);
  return a;
}
