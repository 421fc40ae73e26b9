/** Pages that stand beside each other under one heading. */

import { NavLink } from "react-router";
import type { Library } from "../api/client";
import { useMay } from "../api/people";
import { addressOf, under } from "../pages";
import { PageTitle } from "./ui";

export function Tabs({ library, under: heading }: { library: Library; under: string }) {
  const may = useMay(library.slug);
  return (
    <PageTitle
      aside={
        <nav aria-label={heading} className="flex max-w-full gap-1 overflow-x-auto border-b border-line">
          {under(heading)
            .filter(({ needs }) => !needs || may(needs))
            .map(({ path, name, tab, hint }) => (
              <NavLink
                key={path}
                to={addressOf(library.slug, path)}
                end
                title={hint}
                className={({ isActive }) =>
                  `-mb-px whitespace-nowrap border-b-2 px-3 py-1.5 text-sm font-semibold ${isActive ? "border-plum text-plum" : "border-transparent text-quiet hover:text-plum"}`
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
