import type { ReactNode } from "react";
import { useLocation, useParams } from "react-router";
import { useBoard } from "../../api/queries";
import { Place as Around } from "../../ui/places";

const parts = [
  { path: "", label: "Segments" },
  { path: "/attributes", label: "Attributes" },
  { path: "/unit", label: "Units" },
  { path: "/roster", label: "Roster" },
];

/** Place is what stands around the pages of the population. */
export function Place({ children }: { children: ReactNode }) {
  const { project = "", environment = "" } = useParams();
  const board = useBoard(project);
  const { pathname, search } = useLocation();
  const base = (e: string) => `/p/${project}/${e}/population`;
  return (
    <Around title="Population" base={base} here={pathname.slice(base(environment).length) + search} environments={board.data?.environments.map((e) => e.key) ?? []} environment={environment} parts={parts}>
      {children}
    </Around>
  );
}
