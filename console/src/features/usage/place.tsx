import type { ReactNode } from "react";
import { useLocation, useParams } from "react-router";
import { useBoard } from "../../api/queries";
import { Place as Around } from "../../ui/places";

const parts = [
  { path: "", label: "Decisions" },
  { path: "/processes", label: "Processes" },
  { path: "/radar", label: "Radar" },
];

/** Place is what stands around the pages of usage. */
export function Place({ children }: { children: ReactNode }) {
  const { project = "", environment = "" } = useParams();
  const board = useBoard(project);
  const { pathname, search } = useLocation();
  const base = (e: string) => `/p/${project}/${e}/usage`;
  return (
    <Around title="Usage" base={base} here={pathname.slice(base(environment).length) + search} environments={board.data?.environments.map((e) => e.key) ?? []} environment={environment} parts={parts}>
      {children}
    </Around>
  );
}
