/** When somebody last looked at a library in this browser. Where the browser keeps nothing, it is not known. */

import { useEffect, useState } from "react";
import { keep, kept } from "./kept";

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
    const last = read(slug);
    if (last === null) return null;
    return Date.now() - last.now > APART ? last.now : last.before;
  });
  useEffect(() => {
    keep(`visit-${slug}`, JSON.stringify({ before, now: Date.now() } satisfies Kept));
  }, [slug, before]);
  return before;
}

function read(slug: string): Kept | null {
  try {
    const found = JSON.parse(kept(`visit-${slug}`) ?? "null") as Partial<Kept> | null;
    return typeof found?.now === "number" ? { before: found.before ?? null, now: found.now } : null;
  } catch {
    return null; // not as we write it
  }
}
