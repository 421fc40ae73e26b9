/** Waiting until somebody has finished typing or dragging. */

import { useEffect, useState } from "react";

/** A value as it is once it has not changed for so many milliseconds. */
export function useAtRest<T>(value: T, milliseconds: number): T {
  const [atRest, setAtRest] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setAtRest(value), milliseconds);
    return () => clearTimeout(timer);
  }, [value, milliseconds]);
  return atRest;
}
