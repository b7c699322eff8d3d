import type { ReactNode } from "react";
import { Link, NavLink } from "react-router";
import { Page } from "./controls";

/** Place is what stands around pages that belong together: their title, the environments,
    and the pages. */
export function Place({ title, base, here, environments, environment, parts, children }: {
  title: string;
  base: (environment: string) => string;
  here: string; // behind the base, with its search
  environments: string[];
  environment: string;
  parts: { path: string; label: string }[];
  children: ReactNode;
}) {
  return (
    <Page
      title={title}
      aside={
        <nav aria-label="environments" className="flex gap-1">
          {environments.map((e) => (
            <Link key={e} to={base(e) + here} aria-current={e === environment ? "page" : undefined} className={`rounded border px-2.5 py-1 ${e === environment ? "border-lever font-medium" : "border-line text-soft hover:text-ink"}`}>
              {e}
            </Link>
          ))}
        </nav>
      }
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
