import type { ReactNode } from "react";
import { NavLink } from "react-router";
import { Page } from "../ui/controls";
import { Environments } from "./environments";

/** Place is what stands around pages that belong together: their title, the environments,
    and the pages. */
export function Place({ project, title, base, here, environment, parts, children }: {
  project: string;
  title: string;
  base: (environment: string) => string;
  here: string; // behind the base, with its search
  environment: string;
  parts: { path: string; label: string }[];
  children: ReactNode;
}) {
  return (
    <Page
      name={`${title} in ${environment}`}
      title={title}
      aside={<Environments project={project} environment={environment} to={(e) => base(e) + here} />}
    >
      <nav aria-label={`pages of ${title}`} className="flex flex-wrap gap-4 border-b border-line">
        {parts.map((p) => (
          <NavLink key={p.path} end to={base(environment) + p.path} className={({ isActive }) => `-mb-px border-b-2 py-1.5 ${isActive ? "border-lever font-medium" : "border-transparent text-soft hover:text-ink"}`}>
            {p.label}
          </NavLink>
        ))}
      </nav>
      {children}
    </Page>
  );
}
