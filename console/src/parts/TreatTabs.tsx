/** The three sides of treating: runs, how pictures are treated, what happens by itself. */

import { NavLink } from "react-router";
import type { Library } from "../api/client";
import { PageTitle } from "./ui";

const TABS = [
  { to: "treat", name: "Runs" },
  { to: "treat/recipe", name: "Recipe" },
  { to: "treat/upkeep", name: "Upkeep" },
];

export function TreatTabs({ library }: { library: Library }) {
  return (
    <PageTitle
      aside={
        <nav aria-label="Treat" className="flex gap-1 border-b border-line">
          {TABS.map(({ to, name }) => (
            <NavLink
              key={to}
              to={`/l/${library.slug}/${to}`}
              end
              className={({ isActive }) =>
                `-mb-px border-b-2 px-3 py-1.5 text-sm font-semibold ${isActive ? "border-plum text-plum" : "border-transparent text-quiet hover:text-plum"}`
              }
            >
              {name}
            </NavLink>
          ))}
        </nav>
      }
    >
      Treat
    </PageTitle>
  );
}
