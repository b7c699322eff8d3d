/* A hook on the client for browsers.

     <FlagsProvider flags={start({ key: "glb_..." })}> ... </FlagsProvider>
     const photo = useBool("handover-photo", false);

   A part of a page that a flag opens, which is not drawn before there are answers:

     <Where flag="handover-photo"> ... </Where> */
import { createContext, createElement, Fragment, useCallback, useContext, useSyncExternalStore, type ReactNode } from "react";
import type { Flags } from "./greenlever";

const Given = createContext<Flags | undefined>(undefined);

export function FlagsProvider({ flags, children }: { flags: Flags; children?: ReactNode }) {
  return createElement(Given.Provider, { value: flags }, children);
}

export function useFlags(): Flags {
  const flags = useContext(Given);
  if (!flags) throw new Error("greenlever: there is no FlagsProvider around this component");
  return flags;
}

function useAnswer<T>(read: (flags: Flags) => T): T {
  const flags = useFlags();
  return useSyncExternalStore(
    useCallback((changed) => flags.watch(changed), [flags]),
    () => read(flags),
    () => read(flags),
  );
}

export const useBool = (key: string, fallback: boolean) => useAnswer((f) => f.bool(key, fallback));
export const useString = (key: string, fallback: string) => useAnswer((f) => f.string(key, fallback));
export const useNumber = (key: string, fallback: number) => useAnswer((f) => f.number(key, fallback));
/** Keep the fallback in a constant outside of the component, so that it is the same each time. */
export const useObject = <T extends object>(key: string, fallback: T) => useAnswer((f) => f.object(key, fallback));

export function Where({ flag, is, children }: { flag: string; is?: string; children?: ReactNode }) {
  const open = useAnswer((f) => f.gives(flag, is));
  return open ? createElement(Fragment, null, children) : null;
}
