/** When somebody last looked at a library in this browser. Where the browser keeps nothing, it is not known. */

import { useEffect, useState } from "react";

/** After so long without a look, the next one is another visit, in milliseconds. */
const APART = 30 * 60 * 1000;

interface Kept {
  /** The begin of the visit before, and the latest look of this one. */
  before: number | null;
  now: number;
}

/** The end of the visit before this one, in milliseconds since 1970; null for the first. */
export function useLastVisit(slug: string): number | null {
  const [before] = useState(() => {
    const kept = read(slug);
    if (kept === null) return null;
    return Date.now() - kept.now > APART ? kept.now : kept.before;
  });
  useEffect(() => {
    write(slug, { before, now: Date.now() });
  }, [slug, before]);
  return before;
}

const name = (slug: string) => `plumcrate-visit-${slug}`;

function read(slug: string): Kept | null {
  try {
    const kept = JSON.parse(localStorage.getItem(name(slug)) ?? "null") as Partial<Kept> | null;
    return typeof kept?.now === "number" ? { before: kept.before ?? null, now: kept.now } : null;
  } catch {
    return null;
  }
}

function write(slug: string, kept: Kept): void {
  try {
    localStorage.setItem(name(slug), JSON.stringify(kept));
  } catch {
    // Refused, or full: then nothing is kept.
  }
}
