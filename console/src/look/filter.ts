/** Which pictures are looked at: a filter, as the address holds it, and as the service is asked. */

import { LEVELS, STATE_WORDS } from "./words";

/** The facets of which several values can be chosen, in the order in which they stand, with their words. */
export const FACETS = {
  state: { title: "State", words: STATE_WORDS },
  format: { title: "Format", words: { "": "not a picture" } as Record<string, string> },
  weight: {
    title: "Weight of all files",
    words: {
      "over-2mb": "over 2 MB",
      "500kb-2mb": "500 kB to 2 MB",
      "100kb-500kb": "100 to 500 kB",
      "under-100kb": "under 100 kB",
    } as Record<string, string>,
  },
  saving: {
    title: "Saving",
    words: {
      none: "none",
      "to-25": "up to 25 %",
      "25-50": "25 to 50 %",
      "over-50": "over 50 %",
    } as Record<string, string>,
  },
  score: {
    title: "Lowest score",
    words: {
      none: "no loss, or not treated",
      "under-60": "under 60",
      "60-70": "60 to 70",
      "70-80": "70 to 80",
      "80-90": "80 to 90",
      "over-90": "over 90",
    } as Record<string, string>,
  },
  copied: {
    title: "Lighter copies",
    words: { yes: "there", no: "none" } as Record<string, string>,
  },
  rule: {
    title: "Own rule",
    words: {
      none: "by the recipe",
      leave: "left alone",
      ...Object.fromEntries(Object.entries(LEVELS).map(([name, level]) => [name, level.name])),
    } as Record<string, string>,
  },
} as const;

export type FacetName = keyof typeof FACETS;
export const FACET_NAMES = Object.keys(FACETS) as FacetName[];

export type Filter = Record<FacetName, string[]> & { folder: string; search: string };

export const ORDERS = [
  { value: "", name: "by path" },
  { value: "worst", name: "worst place first" },
  { value: "saved", name: "most saved first" },
  { value: "size", name: "heaviest first" },
];

/** The filter that an address holds; what it does not know is passed over. */
export function readFilter(params: URLSearchParams): Filter {
  const chosen = Object.fromEntries(FACET_NAMES.map((name) => [name, params.getAll(name)])) as Record<
    FacetName,
    string[]
  >;
  return { ...chosen, folder: params.get("folder") ?? "", search: params.get("search") ?? "" };
}

/** What the service is asked: only what was chosen. */
export function asked(filter: Filter): Record<string, string | string[]> {
  return Object.fromEntries(Object.entries(filter).filter(([, value]) => value.length > 0));
}

/** How many choices there are. */
export function choices(filter: Filter): number {
  return Object.keys(asked(filter)).length;
}

export function wordOf(facet: FacetName, value: string, label: (format: string) => string): string {
  const words: Record<string, string> = FACETS[facet].words;
  return words[value] ?? (facet === "format" ? label(value) : value);
}
