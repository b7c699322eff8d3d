import type { ReactNode } from "react";
import { useLocation, useParams } from "react-router";
import { Place as Around } from "../../parts/places";

const parts = [
  { path: "", label: "Decisions" },
  { path: "/metrics", label: "Metrics" },
  { path: "/processes", label: "Processes" },
  { path: "/radar", label: "Radar" },
];

/** Place is what stands around the pages of usage. */
export function Place({ children }: { children: ReactNode }) {
  const { project = "", environment = "" } = useParams();
  const { pathname, search } = useLocation();
  const base = (e: string) => `/p/${project}/${e}/usage`;
  return (
    <Around project={project} title="Usage" base={base} here={pathname.slice(base(environment).length) + search} environment={environment} parts={parts}>
      {children}
    </Around>
  );
}
