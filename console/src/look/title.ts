/** What the browser's tab is called. */

import { useEffect } from "react";

const PRODUCT = "Plum Crate";

/** Names the tab after a page and what it is of, the narrowest first; undefined: it is named elsewhere. */
export function useTitle(...parts: (string | undefined)[]): void {
  const title = parts.every((part) => part !== undefined) ? [...parts, PRODUCT].join(" – ") : undefined;
  useEffect(() => {
    if (title !== undefined) document.title = title;
  }, [title]);
}
