import { clockTime } from "./controls";

/** AsOf says how old numbers are that are offered as proof, once they can't be read anew. */
export function AsOf({ at }: { at: number | undefined }) {
  if (at === undefined) return null;
  return <span className="font-medium text-alarm"> (as it was at {clockTime(at)}; not known since)</span>;
}
