/** The levels, on a part of a picture of one's own: chosen by eye, with the figures beside. */

import { useState } from "react";
import type { PictureDetail } from "../api/client";
import { useTrial } from "../api/queries";
import { LEVELS, type LevelName } from "../look/words";
import { worstOf } from "./Comparison";
import { TrialView } from "./TrialView";
import { Button, Card, ErrorNote } from "./ui";

/** So many pixels of a picture are tried. */
export const TRIED = 120_000;

interface Applying {
  busy: boolean;
  /** Treats the picture at a level; none: this person may not. */
  onApply: ((level: LevelName) => void) | undefined;
}

export function LevelsCard({ picture, ...applying }: { picture: PictureDetail } & Applying) {
  const [open, setOpen] = useState(false);
  const original = picture.all_files.find((file) => file.id === picture.original_id);
  if (!original || original.width === 0) return null;
  const worst = worstOf([original]);
  const place =
    worst?.key === "now"
      ? original.worst_place
      : original.derived.find(({ format }) => format === worst?.key)?.worst_place;
  return (
    <Card
      title="The levels, on this picture"
      aside={place ? "where it changed most, at its own size" : "its middle, at its own size"}
    >
      {open ? (
        <div className="grid gap-4 sm:grid-cols-2 xl:grid-cols-4">
          {(Object.keys(LEVELS) as LevelName[]).map((level) => (
            <OfLevel
              key={level}
              picture={picture.id}
              level={level}
              x={place?.left ?? 0.5}
              y={place?.top ?? 0.5}
              {...applying}
            />
          ))}
        </div>
      ) : (
        <div className="flex flex-wrap items-center gap-3 text-sm text-quiet">
          <Button onClick={() => setOpen(true)}>Try all four</Button>
          In memory only: nothing is changed by looking.
        </div>
      )}
    </Card>
  );
}

function OfLevel({
  picture,
  level,
  x,
  y,
  busy,
  onApply,
}: { picture: number; level: LevelName; x: number; y: number } & Applying) {
  const trial = useTrial(picture, { level, x, y, pixels: TRIED });
  return (
    <section aria-label={LEVELS[level].name}>
      <div className="mb-1.5 flex items-center justify-between gap-2">
        <h3 className="text-base">{LEVELS[level].name}</h3>
        {onApply && (
          <Button look="quiet" busy={busy} onClick={() => onApply(level)}>
            Treat so
          </Button>
        )}
      </div>
      {trial.isError ? (
        <ErrorNote error={trial.error} again={() => void trial.refetch()} />
      ) : (
        <TrialView trial={trial.data} busy={trial.isFetching} />
      )}
    </section>
  );
}
