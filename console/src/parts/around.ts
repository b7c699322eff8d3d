import { useMemo } from "react";
import type { Schemas } from "../api/client";
import { useSegments } from "../api/queries";
import { readCondition, useAttributes, writeCondition } from "../api/targeting";
import { FlagTest } from "./flag-test";

function about(a: Schemas["AttributeView"]): string {
  const parts = [a.declared?.type ?? Object.keys(a.seen?.kinds ?? {}).join(" or ")];
  if (a.declared?.description) parts.push(a.declared.description);
  if (a.seen) parts.push(`in ${Math.round(a.share * 100)} % of contexts`);
  if (a.odd) parts.push(a.odd);
  return parts.filter((p) => p !== "").join(" · ");
}

/** typeOf is what an attribute is declared to be, else the one kind that nearly all values have. */
function typeOf(a: Schemas["AttributeView"]): string {
  if (a.declared) return a.declared.type;
  const kinds = Object.entries(a.seen?.kinds ?? {});
  const all = kinds.reduce((sum, [, n]) => sum + n, 0);
  return kinds.find(([, n]) => n >= 0.95 * all)?.[0] ?? "";
}

/** useAround gathers what an editor of conditions knows. */
export function useAround(project: string, environment: string, but?: string) {
  const attributes = useAttributes(project, environment);
  const segments = useSegments(project, environment);
  return useMemo(
    () => ({
      hints: (attributes.data?.items ?? []).map((a) => ({ name: a.name, type: typeOf(a), about: about(a), values: a.seen?.values.map((v) => v.value) ?? [] })),
      segments: (segments.data?.items ?? []).filter((s) => s.key !== but).map((s) => ({ key: s.key, says: s.sentence })),
      FlagTest,
      read: readCondition,
      write: writeCondition,
    }),
    [attributes.data, segments.data, but],
  );
}
