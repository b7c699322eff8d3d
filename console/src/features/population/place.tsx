import type { ReactNode } from "react";
import { useLocation, useParams } from "react-router";
import { Place as Around } from "../../parts/places";

const parts = [
  { path: "", label: "Segments" },
  { path: "/attributes", label: "Attributes" },
  { path: "/unit", label: "Units" },
  { path: "/roster", label: "Roster" },
];

/** Place is what stands around the pages of the population. */
export function Place({ children }: { children: ReactNode }) {
  const { project = "", environment = "" } = useParams();
  const { pathname, search } = useLocation();
  const base = (e: string) => `/p/${project}/${e}/population`;
  return (
    <Around project={project} title="Population" base={base} here={pathname.slice(base(environment).length) + search} environment={environment} parts={parts}>
      {children}
    </Around>
  );
}
