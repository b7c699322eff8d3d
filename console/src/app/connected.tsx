import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { useConnection } from "../api/connection";
import { clockTime } from "../ui/controls";

/** How often a lost service is asked for again, in milliseconds. */
const askEvery = 2_000;

/** NotConnected says since when the service is not reached, asks for it, and has all read again once it is. */
export function NotConnected() {
  const { since } = useConnection();
  const cache = useQueryClient();
  useEffect(() => {
    if (since === undefined) return;
    const timer = setInterval(() => void cache.refetchQueries({ queryKey: ["me"] }, { cancelRefetch: false }), askEvery);
    return () => {
      clearInterval(timer);
      void cache.invalidateQueries();
    };
  }, [since, cache]);
  return (
    <div role="status">
      {since !== undefined && (
        <p className="border-b border-alarm bg-alarm-sheet px-4 py-2 text-center text-alarm">
          Not connected since {clockTime(since)}. What you see is from before; what you typed is kept. Asking again every 2 s.
        </p>
      )}
    </div>
  );
}
