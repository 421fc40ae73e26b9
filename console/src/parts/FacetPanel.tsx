/** What can be chosen beside the pictures, each with how many it would find and what they weigh. */

import { ChevronRight } from "lucide-react";
import type { Facets } from "../api/client";
import { useFormats } from "../api/queries";
import { FACET_NAMES, FACETS, wordOf, type FacetName, type Filter } from "../look/filter";
import { bytes, count, many } from "../look/words";
import { Shape } from "./ui";

type Value = Facets["facets"][string][number];

export function FacetPanel({
  facets,
  filter,
  onFacet,
  onFolder,
}: {
  facets: Facets | undefined;
  filter: Filter;
  onFacet: (facet: FacetName, value: string, on: boolean) => void;
  onFolder: (folder: string) => void;
}) {
  const { label } = useFormats();
  if (!facets)
    return (
      <div className="space-y-3" aria-hidden>
        {[9, 6, 8].map((height) => (
          <Shape key={height} className="h-28" />
        ))}
      </div>
    );
  return (
    <div className="space-y-5">
      <Folders values={facets.facets["folder"] ?? []} folder={filter.folder} onFolder={onFolder} />
      {FACET_NAMES.map((facet) => {
        const values = inOrder(facet, facets.facets[facet] ?? [], filter[facet]);
        if (values.length < 2 && filter[facet].length === 0) return null;
        return (
          <fieldset key={facet}>
            <legend className="mb-1 text-sm font-semibold">{FACETS[facet].title}</legend>
            {values.map(({ name, pictures, bytes_now }) => (
              <label
                key={name}
                className="flex cursor-pointer items-center gap-2 rounded py-1 text-sm hover:text-plum"
                title={bytes(bytes_now)}
              >
                <input
                  type="checkbox"
                  className="h-4 w-4 shrink-0 accent-plum"
                  checked={filter[facet].includes(name)}
                  onChange={(event) => onFacet(facet, name, event.target.checked)}
                />
                <span className="min-w-0 flex-1 truncate">{wordOf(facet, name, label)}</span>
                <span className="tabular-nums text-quiet">{count(pictures)}</span>
              </label>
            ))}
          </fieldset>
        );
      })}
    </div>
  );
}

/** Those with an order of their own keep it; what is chosen stays in sight when it finds nothing any more. */
function inOrder(facet: FacetName, values: Value[], chosen: string[]): Value[] {
  const there = [
    ...values,
    ...chosen
      .filter((name) => !values.some((value) => value.name === name))
      .map((name) => ({ name, pictures: 0, bytes_now: 0 })),
  ];
  if (facet === "state" || facet === "format") return there;
  const order = Object.keys(FACETS[facet].words);
  return there.sort((a, b) => order.indexOf(a.name) - order.indexOf(b.name));
}

function Folders({
  values,
  folder,
  onFolder,
}: {
  values: Value[];
  folder: string;
  onFolder: (folder: string) => void;
}) {
  const steps = folder ? folder.split("/") : [];
  const heaviest = Math.max(1, ...values.map((value) => value.bytes_now));
  if (!folder && values.length === 0) return null;
  return (
    <nav aria-label="Folders">
      <h2 className="mb-1 font-sans text-sm font-semibold">Folder</h2>
      <p className="flex flex-wrap items-center text-sm">
        <Place on={!folder} onClick={() => onFolder("")}>
          all
        </Place>
        {steps.map((step, index) => {
          const here = steps.slice(0, index + 1).join("/");
          return (
            <span key={here} className="flex min-w-0 items-center">
              <ChevronRight size={13} className="shrink-0 text-quiet" aria-hidden />
              <Place on={here === folder} onClick={() => onFolder(here)}>
                {step}
              </Place>
            </span>
          );
        })}
      </p>
      <ul className="mt-1 max-h-64 overflow-y-auto" tabIndex={values.length > 9 ? 0 : undefined}>
        {values.map(({ name, pictures, bytes_now }) => (
          <li key={name}>
            <button
              type="button"
              onClick={() => onFolder(name)}
              title={`${name}: ${many(pictures, "picture")}`}
              className="block w-full rounded py-0.5 text-left text-sm hover:text-plum"
            >
              <span className="flex justify-between gap-2">
                <span className="min-w-0 truncate">{name.split("/").at(-1)}</span>
                <span className="whitespace-nowrap tabular-nums text-quiet">{bytes(bytes_now)}</span>
              </span>
              <span className="mt-0.5 block h-1 rounded-sm bg-sunken" aria-hidden>
                <span
                  className="block h-full rounded-sm bg-kraft"
                  style={{ width: `${Math.max(1, (100 * bytes_now) / heaviest)}%` }}
                />
              </span>
            </button>
          </li>
        ))}
      </ul>
    </nav>
  );
}

function Place({ on, onClick, children }: { on: boolean; onClick: () => void; children: string }) {
  return (
    <button
      type="button"
      aria-current={on || undefined}
      onClick={onClick}
      className={`min-w-0 truncate rounded px-1 ${on ? "font-semibold text-ink" : "text-plum hover:underline"}`}
    >
      {children}
    </button>
  );
}
