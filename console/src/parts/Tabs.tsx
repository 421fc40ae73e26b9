/** Pages that stand beside each other under one heading. */

import { NavLink } from "react-router";
import type { Library } from "../api/client";
import { addressOf, under } from "../pages";
import { PageTitle } from "./ui";

export function Tabs({ library, under: heading }: { library: Library; under: string }) {
  return (
    <PageTitle
      aside={
        <nav aria-label={heading} className="flex gap-1 border-b border-line">
          {under(heading).map(({ path, name, tab, hint }) => (
            <NavLink
              key={path}
              to={addressOf(library.slug, path)}
              end
              title={hint}
              className={({ isActive }) =>
                `-mb-px border-b-2 px-3 py-1.5 text-sm font-semibold ${isActive ? "border-plum text-plum" : "border-transparent text-quiet hover:text-plum"}`
              }
            >
              {tab ?? name}
            </NavLink>
          ))}
        </nav>
      }
    >
      {heading}
    </PageTitle>
  );
}
