/** What was done to a picture: one line for each run or person, with every file of it folded away. */

import type { PictureDetail } from "../api/client";
import { bytes, many, when } from "../look/words";
import { Card } from "./ui";

type Entry = PictureDetail["history"][number];

const DONE: Record<string, string> = {
  replace: "made lighter",
  restore: "put back",
  copy: "copy written",
  size: "made for a size",
  "drop-size": "removed, no size asks for it",
  "touched-up": "touch-ups changed",
  "drop-copy": "copy removed",
  withdraw: "first file removed",
  "put-back": "first file put back",
  upload: "uploaded",
  supersede: "replaced by an upload",
  prune: "backup deleted",
};

interface Step {
  key: string;
  at: string;
  run: number | null;
  entries: Entry[];
}

/** Entries of one run, or of one moment outside of runs, belong together. */
export function stepsOf(history: Entry[]): Step[] {
  const steps: Step[] = [];
  for (const entry of history) {
    const last = steps.at(-1);
    const same = last?.run === entry.run_id && (entry.run_id !== null || last.at === entry.at);
    if (last && same) last.entries.push(entry);
    else steps.push({ key: String(entry.id), at: entry.at, run: entry.run_id, entries: [entry] });
  }
  return steps;
}

/** "6 files made lighter, 9 copies written". */
function said(entries: Entry[]): string {
  const counts = new Map<string, number>();
  for (const { action } of entries) counts.set(action, (counts.get(action) ?? 0) + 1);
  return [...counts]
    .map(([action, number]) => {
      const words = DONE[action] ?? action;
      if (number === 1) return words;
      return words.startsWith("copy")
        ? words.replace("copy", many(number, "copy", "copies"))
        : `${many(number, "file")} ${words}`;
    })
    .join(", ");
}

/** What the files themselves became, copies apart. */
function weights(entries: Entry[]): string | undefined {
  const changed = entries.filter((one) => one.bytes_before != null && one.bytes_after != null);
  if (changed.length === 0) return undefined;
  const sum = (of: "bytes_before" | "bytes_after") =>
    changed.reduce((total, one) => total + (one[of] ?? 0), 0);
  return `${bytes(sum("bytes_before"))} became ${bytes(sum("bytes_after"))}`;
}

export function PictureHistory({ picture }: { picture: PictureDetail }) {
  const steps = stepsOf(picture.history);
  return (
    <Card title="History">
      {steps.length === 0 ? (
        <p className="text-quiet">Nothing has been done to this picture.</p>
      ) : (
        <ol className="space-y-3 text-sm">
          {steps.map(({ key, at, run, entries }) => (
            <li key={key}>
              <div className="flex items-baseline justify-between gap-3">
                <span className="font-semibold first-letter:uppercase">{said(entries)}</span>
                <span className="whitespace-nowrap text-xs text-quiet">{when(at)}</span>
              </div>
              <div className="text-xs text-quiet">
                {[run !== null && `run ${run}`, weights(entries)].filter(Boolean).join(", ")}
              </div>
              <details className="text-xs text-quiet">
                <summary className="cursor-pointer">{many(entries.length, "change")}</summary>
                <ul className="mt-1 space-y-0.5">
                  {entries.map((entry) => (
                    <li key={entry.id} className="flex justify-between gap-2">
                      <span className="min-w-0 truncate font-mono" title={entry.path}>
                        {entry.path.split("/").pop()}
                      </span>
                      <span className="whitespace-nowrap">
                        {entry.bytes_before != null && entry.bytes_after != null
                          ? `${bytes(entry.bytes_before)} to ${bytes(entry.bytes_after)}`
                          : (DONE[entry.action] ?? entry.action)}
                      </span>
                    </li>
                  ))}
                </ul>
              </details>
            </li>
          ))}
        </ol>
      )}
    </Card>
  );
}
